"""Compare, deliver and read from Python. Run it in an estate: python examples/notebook.py [ESTATE]"""

import asyncio
import os
import sys

import oast


async def main(folder: str) -> None:
    estate = oast.open(folder, os.environ)
    async with await estate.compare(on="role=core", sections=["time"]) as plan:
        for device in plan.different:
            rollback, counts = device.rollback_method.name, device.counts
            print(f"{device.name}: +{counts.added} -{counts.removed}, rollback: {rollback}")
        result = await plan.deliver("The new time servers", on_event=show)
    print({outcome.device: str(outcome.state) for outcome in result.outcomes}, result.verdict)
    async with estate.session("gull-core-1") as session:
        print([(row["name"], row["oper-status"]) for row in await session.read("interfaces")])
    print("all passed" if not (await estate.verify(wait_s=10)).wrong else "not all passed")


def show(event: object) -> None:
    if isinstance(event, oast.DeviceEvent) and event.stage.is_end:
        print(f"{event.device}: {event.stage}")


asyncio.run(main(sys.argv[1] if len(sys.argv) > 1 else "."))

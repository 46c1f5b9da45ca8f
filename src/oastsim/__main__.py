"""`python -m oastsim NETWORK FOLDER` runs the devices of NETWORK in this process and keeps their state in
FOLDER."""

import gc
import os
import sys
from pathlib import Path

from oastsim import daemon, network


def main() -> int:
    if len(sys.argv) != 3:
        sys.stderr.write("usage: python -m oastsim NETWORK FOLDER\n")
        return 2
    folder = Path(sys.argv[2])
    # What devices are made of is kept as long as they run: looking through it for garbage again and again
    # costs a tenth of the time.
    gc.set_threshold(20_000, 20, 20)
    # What the devices keep holds password hashes and keys.
    os.umask(0o077)
    folder.mkdir(parents=True, exist_ok=True)
    try:
        daemon.run(network.load(Path(sys.argv[1])), folder)
    except (network.NetworkError, OSError) as error:
        sys.stderr.write(f"{error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())

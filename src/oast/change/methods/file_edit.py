"""The configuration is one file: it is edited in place, checked beside itself, and applied under a timer of
the daemon or of Oast."""

from __future__ import annotations

from contextlib import suppress

from oast.answer_parsing import parse_if_long
from oast.change import DAEMON_TIMER, FILE_TIMER, Phase, RollbackMethod
from oast.change.methods.base import ChangeRequest, CliDeliveryMethod, time_fields
from oast.config import EditedText, Node, apply_edits, edit_file, read_tree, secrets_below
from oast.connect import Capability, CommandLine
from oast.errors import DeviceRefused
from oast.platforms import FileCommands

# How long the former text may wait for its own confirmation, in seconds.
UNDO_TIMER_S = 60.0


class FileReplaceMethod(CliDeliveryMethod):
    """For routing daemons, packet filters and the like. With `reload`, the timer is Oast's own: see
    `oast.platforms.file_timer`."""

    def __init__(self, session: CommandLine, work: ChangeRequest, file: FileCommands) -> None:
        super().__init__(session, work)
        self._file = file
        self.rollback_method: RollbackMethod = FILE_TIMER if file.is_own_timer else DAEMON_TIMER
        # The bytes of the file before it was edited, and what they become.
        self._original: str | None = None
        self._new: EditedText | None = None

    async def check_nothing_pending(self) -> None:
        await self.session.gain_privilege()
        await self.require_nothing_pending(self._file.pending, "the daemon is waiting for confirmation")

    async def read_file(self) -> str:
        """Read the current file, with its own command or, where there is none, from the startup
        configuration."""
        if self._file.read is not None:
            text = await self.session.listing(self._file.read, written_down=False)
        elif Capability.STARTUP in self.session.capabilities:
            text = await self.session.read_startup()
        else:
            text = await self.session.read_running()
        self._hide_secrets(await read_tree(self.work.syntax, text))
        return text

    def _hide_secrets(self, tree: Node) -> None:
        """The whole file is sent, with what no section owns: none of its secrets is to be in the log."""
        for secret in secrets_below(tree):
            if not secret.is_forgotten:
                self.session.transcript.masking.add(secret)

    def _intended(self) -> Node:
        comparison = self.work.comparison
        return apply_edits(comparison.edits, comparison.running)

    async def _edited(self) -> EditedText:
        """The file with the change in it. Raises DeviceError when it cannot be edited in place."""
        if self._new is None:
            self._original = await self.read_file()
            self._new = await self._edited_to(self._original, self._intended())
        return self._new

    async def _edited_to(self, text: str, tree: Node) -> EditedText:
        return await parse_if_long((text,), edit_file, self.work.syntax, text, tree)

    async def add_comment(self, text: str) -> None:
        """Take a comment at the end of the file for the change, in place of statements: it means nothing to
        the daemon."""
        self._original = await self.read_file()
        end = "" if self._original.endswith("\n") or not self._original else "\n"
        self._new = EditedText(f"{self._original}{end}{self.work.syntax.comment} {text}\n")

    async def _put(self, text: str, path: str, secrets: EditedText | None = None) -> None:
        for secret in secrets.secrets if secrets is not None else ():
            self.session.transcript.masking.add(secret)
        await self.put(self._file.put, [text if text.endswith("\n") or not text else f"{text}\n"], path)

    async def stage(self) -> None:
        await self.lock()
        new = await self._edited()
        await self.work.reached(Phase.STAGED)
        await self._put(new.text, self._file.beside, new)

    async def validate(self) -> None:
        if self._file.check is not None:
            await self.session.ask(self._file.check.format(path=self._file.beside))

    async def apply(self, timer_s: float) -> None:
        await self.work.reached(Phase.APPLYING)
        command = self._file.apply.format(
            path=self._file.beside, token=self.work.token, **time_fields(timer_s)
        )
        try:
            await self.session.ask(command)
        except DeviceRefused:
            # The daemon does not run it; what it may be trying out is another session's.
            if not self._file.is_own_timer:
                await self.work.on_phase_reset(Phase.STAGED)
            raise
        self.work.sent(len(self.work.comparison.commands))

    async def confirm(self) -> None:
        await self.privileged(self.format_command(self._file.confirm))
        await self.require_confirmed(self._file.pending)

    @property
    def shows_pending(self) -> bool:
        return self._file.pending is not None

    async def extend(self, timer_s: float) -> float | None:
        return await self.extended(self._file.extend, timer_s, self._file.pending)

    async def is_waiting(self) -> bool | None:
        return await self.is_confirm_pending(self._file.pending)

    async def cancel(self, phase: Phase) -> None:
        if phase >= Phase.APPLYING:
            if not await self.is_not_pending(self._file.pending):
                await self.privileged(self.format_command(self._file.cancel))
            await self._restore()
        await self.clean_up()
        await self.unlock()

    async def _restore(self) -> None:
        """Whatever the daemon did to its file: it has the bytes that it had. A file that is as before is not
        written."""
        now = await self.read_file()
        before = self.work.comparison.running
        if self._original is not None:
            if now != self._original:
                await self._put(self._original, self._file.path)
        elif await read_tree(self.work.syntax, now) != before:
            await self._put((await self._edited_to(now, before)).text, self._file.path)

    async def clean_up(self) -> None:
        """The file beside it is of no more use."""
        if self._file.remove is not None:
            with suppress(DeviceRefused):
                await self.session.ask(self._file.remove.format(path=self._file.beside))

    async def undo(self) -> None:
        """Apply the former text like a change: checked, then under the timer, then confirmed."""
        await self.session.leave_editing()
        await self.lock()
        now = await self.read_file()
        before = self._original
        if before is None:
            before = (await self._edited_to(now, self.work.comparison.running)).text
        await self._put(before, self._file.beside)
        await self.validate()
        await self.session.ask(
            self._file.apply.format(
                path=self._file.beside, token=self.work.token, **time_fields(UNDO_TIMER_S)
            )
        )
        await self.confirm()
        await self._restore()
        await self.clean_up()
        await self.unlock()

    async def save(self) -> None:
        await self.session.gain_privilege()
        now = await self.read_file()
        if await read_tree(self.work.syntax, now) != self._intended():
            new = await self._edited()
            await self._put(new.text, self._file.path, new)
        await super().save()
        await self.clean_up()
        await self.unlock()

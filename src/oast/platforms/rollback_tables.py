"""The tables of a platform file that declare its rollback: [timer], [candidate], [file] and [scheduled]."""

from __future__ import annotations

from oast.platforms.definition import (
    CandidateCommands,
    FileCommands,
    ScheduledCommands,
    StatePattern,
    TimerCommands,
)
from oast.platforms.file_timer import own_timer_of
from oast.toml_text import Table, TomlFile

SECONDS = ("seconds", "minutes")
# A token that is unique to one delivery to one device.
TOKEN = ("token",)


class RollbackTables:
    """The tables that declare how a device rolls back on its own. At most one of the first three."""

    def __init__(self, file: TomlFile) -> None:
        self._file = file
        self._declared: list[str] = []

    def _table(self, name: str) -> Table | None:
        table = self._file.table(name)
        if table is not None:
            if self._declared and name != "scheduled":
                table.wrong(
                    None,
                    f"[{name}] and [{self._declared[0]}] exclude each other",
                    "keep one: a platform has one delivery method",
                )
            self._declared.append(name)
        return table

    def _shown(self, table: Table, key: str) -> StatePattern | None:
        inner = table.table(key, "{ command = 'COMMAND', pattern = 'PATTERN' }")
        if inner is None:
            return None
        command, pattern = inner.needed("command"), inner.pattern("pattern")
        inner.finish()
        return None if pattern is None else StatePattern(command, pattern)

    def _with_time(self, table: Table, key: str, *more: str) -> str:
        """A command with a placeholder for the time."""
        command = table.template(key, (*SECONDS, *TOKEN, *more))
        if command is None and not table.has(key):
            table.wrong(None, f"'{key}' is missing in [{'.'.join(table.path)}]")
        if command is not None and not any(f"{{{unit}}}" in command for unit in SECONDS):
            table.wrong(key, f"'{key}' must contain {{seconds}} or {{minutes}}")
        return command or ""

    def _extend(self, table: Table) -> str | None:
        """The command that restarts the timer, where the platform has one."""
        return self._with_time(table, "extend") if table.has("extend") else None

    def _told(self, table: Table, key: str) -> str:
        """A command that may say which timer or commit is meant."""
        command = table.template(key, TOKEN)
        if command is None and not table.has(key):
            table.wrong(None, f"'{key}' is missing in [{'.'.join(table.path)}]")
        return command or ""

    def timer(self) -> TimerCommands | None:
        table = self._table("timer")
        if table is None:
            return None
        made = TimerCommands(
            arm=self._with_time(table, "arm"),
            confirm=self._told(table, "confirm"),
            revert=self._told(table, "revert"),
            armed=self._shown(table, "armed"),
            extend=self._extend(table),
        )
        table.finish()
        return made

    def candidate(self) -> CandidateCommands | None:
        table = self._table("candidate")
        if table is None:
            return None
        made = CandidateCommands(
            commit=self._with_time(table, "commit"),
            confirm=self._told(table, "confirm"),
            cancel=self._told(table, "cancel"),
            validate=table.text("validate"),
            discard=table.text("discard"),
            pending=self._shown(table, "pending"),
            extend=self._extend(table),
        )
        table.finish()
        return made

    def file_commands(self) -> FileCommands | None:
        table = self._table("file")
        if table is None:
            return None
        if table.has("reload"):
            return own_timer_of(table)
        put = table.template("put", ("path", "text", "end"), required=("path", "text"))
        if put is None and not table.has("put"):
            table.wrong(None, "'put' is missing in [file]")
        path = table.needed("path")
        made = FileCommands(
            path=path,
            beside=table.text("beside") or f"{path}.new",
            put=put or "",
            apply=self._with_time(table, "apply", "path"),
            confirm=self._told(table, "confirm"),
            cancel=self._told(table, "cancel"),
            check=table.template("check", ("path",)),
            pending=self._shown(table, "pending"),
            remove=table.template("remove", ("path",)),
            read=table.text("read"),
            extend=self._extend(table),
        )
        table.finish()
        return made

    def scheduled(self) -> ScheduledCommands | None:
        table = self._table("scheduled")
        if table is None:
            return None
        armed = self._shown(table, "armed")
        if armed is None:
            table.wrong(
                None,
                "'armed' is missing in [scheduled]",
                ("Oast relies on a rollback only when the device shows it as armed"),
            )
        made = ScheduledCommands(
            self._with_time(table, "arm"),
            self._told(table, "cancel"),
            armed or StatePattern("", ""),
            self._extend(table),
        )
        table.finish()
        return made

"""A revert timer for any POSIX host: a small shell process that restores a saved file and reloads, unless
Oast stops it first.

For daemons that can check and reload their file and no more. The commands are of the POSIX shell (IEEE
1003.1-2017, chapter 2) and need cat, cp, rm, sleep, kill and ls.
"""

from __future__ import annotations

import re

from oast.platforms.definition import FileCommands, StatePattern
from oast.toml_text import Table

SAFE_PATH = re.compile(r"/[A-Za-z0-9/._-]*")
# The saved file has this prefix before the token of a delivery.
SAVED = ".before-"


def own_timer_of(table: Table) -> FileCommands:
    """The commands for the table [file] of a daemon that can do no more than check and reload its file."""
    path, reload = table.needed("path"), table.needed("reload")
    beside = table.text("beside") or f"{path}.new"
    check = table.template("check", ("path",))
    for word, key in ((path, "path"), (beside, "beside")):
        if word and not SAFE_PATH.fullmatch(word):
            table.wrong(
                key, f"'{word}' is not a valid path in a shell command", "use letters, digits and / . _ -"
            )
    table.finish()
    return file_timer(path or "/", beside, reload, check)


def file_timer(path: str, beside: str, reload: str, check: str | None) -> FileCommands:
    """The commands for the file at `path`. `reload` makes the daemon read it; both have no placeholders.

    The saved file is the state of the timer: either the timer or Oast moves it away first and restores it,
    never both. The process number beside it shows whether the timer still runs.
    """
    reload = reload.replace("{", "{{").replace("}", "}}")
    saved, taken = f"{path}{SAVED}{{token}}", f"{path}.taken-{{token}}"
    restore = f"mv {saved} {taken} && cat {taken} > {path} && rm -f {taken} {saved}.pid && {reload}"
    timer = f"trap : HUP; sleep {{seconds}}; {restore}".replace("'", "'\\''")
    start = f"(sh -c '{timer}' >/dev/null 2>&1 </dev/null & echo $! > {saved}.pid)"
    return FileCommands(
        path=path,
        beside=beside,
        put="cat > {path} <<'{end}'\n{text}{end}",
        # The file keeps its owner and mode, as it is written into and not replaced.
        apply=f"cp -p {path} {saved} && {start} && cat {{path}} > {path} && {reload}",
        confirm=(
            f"mv {saved} {taken} && rm -f {taken} && (kill $(cat {saved}.pid) 2>/dev/null; rm -f {saved}.pid)"
        ),
        cancel=restore,
        check=check,
        pending=StatePattern(
            f"for f in $(ls {path}{SAVED}*.pid 2>/dev/null); do "
            '[ -e "${f%.pid}" ] && kill -0 $(cat $f) 2>/dev/null && echo timer $f; done; true',
            rf"timer {re.escape(path)}{re.escape(SAVED)}(?P<token>\S+)\.pid",
        ),
        is_own_timer=True,
        # The new process runs before the old one ends: at no moment does nothing restore the file.
        extend=f"[ -e {saved} ] && old=$(cat {saved}.pid) && {start} && kill $old",
        remove="rm -f {path}",
    )

"""The program `git`, run in one folder. Nothing it is configured to ask for, page or sign gets in the way."""

from __future__ import annotations

import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from oast.child_environment import without_secrets
from oast.errors import StateError

AT_MOST_S = 120.0
# A Git hook or helper must not see the repository of the user who runs Oast.
UNSET = ("GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_PREFIX")
QUIET = {"GIT_TERMINAL_PROMPT": "0", "GIT_PAGER": "cat", "LC_ALL": "C.UTF-8", "GIT_OPTIONAL_LOCKS": "0"}


class GitFailed(StateError):
    """Git has refused; `said` is what it said."""

    def __init__(self, arguments: Sequence[str], said: str) -> None:
        self.said = said.strip()
        lines = self.said.splitlines() or ["nothing"]
        last = next((line for line in lines if line.startswith(("fatal: ", "error: "))), lines[-1])
        super().__init__(f"git {arguments[0]} failed: {last}")


class Git:
    """Git in `folder`, with `environment`."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        self.folder = folder
        # Hooks and helpers of a repository are other people's programs.
        own = without_secrets(environment)
        self._environment = {name: value for name, value in own.items() if name not in UNSET} | QUIET

    def run(self, *arguments: str, given: bytes | None = None, allow: Sequence[int] = ()) -> str:
        """The same as text."""
        return self.output(*arguments, given=given, allow=allow).decode("utf-8", "surrogateescape")

    def output(self, *arguments: str, given: bytes | None = None, allow: Sequence[int] = ()) -> bytes:
        """Run `git ARGUMENTS` with `given` on its standard input, and return what it prints. Exit codes in
        `allow` are not failures.

        Raises StateError when Git is missing, GitFailed when it fails.
        """
        try:
            done = subprocess.run(
                ["git", *arguments],
                cwd=self.folder,
                env=self._environment,
                input=b"" if given is None else given,
                capture_output=True,
                timeout=AT_MOST_S,
                check=False,
            )
        except FileNotFoundError:
            raise StateError(
                "git is not installed, or not in PATH",
                hint="install git; Oast stores backups with it",
            ) from None
        except PermissionError as error:
            raise StateError(f"cannot run git: {error.strerror}") from None
        except subprocess.TimeoutExpired:
            raise StateError(f"git {arguments[0]} did not finish within {AT_MOST_S:.0f} s") from None
        if done.returncode and done.returncode not in allow:
            raise GitFailed(arguments, (done.stderr or done.stdout).decode(errors="replace"))
        return done.stdout

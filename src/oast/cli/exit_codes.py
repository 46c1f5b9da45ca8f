"""The exit codes, as README.md lists them."""

DONE, NO, USAGE, INVALID, FAILED, REVERTED, INTERRUPTED = 0, 1, 2, 3, 4, 5, 130

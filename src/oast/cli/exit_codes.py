"""The exit codes, as README.md lists them."""

DONE, NO, USAGE, INVALID, FAILED, REVERTED, INTERRUPTED = 0, 1, 2, 3, 4, 5, 130
MEANINGS = {
    DONE: "success, or nothing to change",
    NO: "differences found, a check failed, or a question was declined",
    USAGE: "wrong command line",
    INVALID: "invalid estate",
    FAILED: "a device failed or could not be reached",
    REVERTED: "delivered, then rolled back because checks failed",
    INTERRUPTED: "interrupted; every device is in a known state",
}

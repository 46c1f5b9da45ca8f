"""The command line: the only part that knows argparse, the terminal and exit codes."""

"""`python -m oast` is the same program as `oast`."""

from oast.cli.start import program

if __name__ == "__main__":
    program()

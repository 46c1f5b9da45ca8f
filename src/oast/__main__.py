"""`python -m oast` is the same program as `oast`."""

import sys

from oast.cli.main import main

if __name__ == "__main__":
    sys.exit(main())

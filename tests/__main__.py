"""`python -m tests`: see side_by_side.py, which the processes of a run can import."""

import sys

from tests.side_by_side import main

if __name__ == "__main__":
    sys.exit(main())

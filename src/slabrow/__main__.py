"""`python -m slabrow` is the same as `slabrow`."""

import sys

from slabrow.cli.main import main

sys.exit(main())

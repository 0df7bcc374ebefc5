"""`python -m wertis_receiver`."""

import sys

from wertis_receiver.command import main

sys.exit(main())

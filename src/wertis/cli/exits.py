"""Exit codes of the commands."""

EXIT_OK, EXIT_ERROR, EXIT_USAGE, EXIT_PARTLY, EXIT_OVER, EXIT_STOPPED = 0, 1, 2, 3, 4, 130

"""Detection runs over pictures and clips."""

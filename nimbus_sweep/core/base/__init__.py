"""What all of the core uses: errors, failures in the log, files written whole, work on all cores."""

"""Jobs, reels, findings, treatments and work, kept in SQLite."""

"""Records in SQLite, and where files lie in the data folder."""

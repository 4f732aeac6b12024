"""Finding places in text files, for messages that name a line."""

"""Pictures and clips: taken in, listed, split, shown."""

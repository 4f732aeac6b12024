"""One picture taken apart, and the boxes of several models combined."""

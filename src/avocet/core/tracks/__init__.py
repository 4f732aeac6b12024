"""Objects over the frames of a clip."""

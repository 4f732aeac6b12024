"""Live work: a model on what a camera shows, and on what appears in a folder, until somebody stops it."""

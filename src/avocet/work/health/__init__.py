"""Whether this machine and a data folder are fit for work."""

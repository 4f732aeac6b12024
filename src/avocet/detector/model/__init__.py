"""The network: its sizes, its weights, its bundle, and what answers for it."""

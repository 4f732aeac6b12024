"""Before a run: what it would learn from, and looks at what it would do."""

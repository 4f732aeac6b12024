"""A detection run under way: looked at, drawn, recorded."""

"""How sure a figure is, and whether two differ by more than chance."""

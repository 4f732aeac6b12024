"""Projects and how far their stages are."""

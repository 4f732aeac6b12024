"""What a person can do with Avocet: plain functions that the page, the command line and the worker call."""

"""Addresses: names under which models answer other programs over HTTP."""

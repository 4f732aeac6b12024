"""The network, how it learns, and how it is kept and asked. The only rooms that know torch."""

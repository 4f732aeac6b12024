"""Routes of the server itself: who is signed in, and the machines that it works with."""

"""The doors of the server: who may come in, and what is settled before a thread takes a request up."""

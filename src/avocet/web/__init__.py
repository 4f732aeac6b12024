"""The server: a Flask application with one blueprint a subject."""

"""Request and response schemas. They check what comes in, shape what goes out, and make the OpenAPI document."""

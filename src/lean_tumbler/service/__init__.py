"""The login service: HTTP for applications in any language."""

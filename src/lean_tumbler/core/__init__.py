"""Computation only: no files, sockets, databases, arguments or printing."""

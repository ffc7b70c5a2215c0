"""The command line: one module per command, which parses, calls and reports."""

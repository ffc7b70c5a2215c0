"""The commands, a folder each; `command.py` has EXAMPLE, the options, and what runs.

Only the module of the command that runs is imported, so that the program starts at once.
"""

"""The languages by name, apart, so that the command line knows them without loading one."""

LANGUAGE_NAMES = ("php", "node", "python", "ruby", "go", "java")

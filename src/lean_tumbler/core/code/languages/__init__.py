"""Languages that are read: a module each turns a parser's tree into a program."""

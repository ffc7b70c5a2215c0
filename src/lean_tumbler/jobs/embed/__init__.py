"""`embed`: the check of a store, as a source file of the application's own language."""

"""What an audit reads: tables in files of many kinds, and in databases, as frames of text."""

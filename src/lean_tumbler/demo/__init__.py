"""The Coldharbour scenario: an invented ferry operator and what it inherited."""

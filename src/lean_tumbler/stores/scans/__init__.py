"""What is read of whole columns, and of accounts beside them."""

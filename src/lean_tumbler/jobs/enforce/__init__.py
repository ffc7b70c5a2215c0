"""Keep it finished: a guard on the column, a gate for CI."""

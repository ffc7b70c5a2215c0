"""What a command or a service does to a store: core's decisions joined to reads and swaps."""

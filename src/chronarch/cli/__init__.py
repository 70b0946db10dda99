"""The command line: one module a command group; all of it talks through the client."""

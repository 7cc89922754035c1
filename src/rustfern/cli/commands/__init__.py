"""One module a command, imported only when it is called."""

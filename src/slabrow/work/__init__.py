"""One module a command: joins core, a server and files into what the command does, and returns a result object."""

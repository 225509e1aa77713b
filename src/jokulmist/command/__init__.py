"""The command line: arguments in, calls to the library, tables out. Heavy imports stand inside the commands."""

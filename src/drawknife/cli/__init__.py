"""The command line: `drawknife`. It uses the client, or with a model file the core."""

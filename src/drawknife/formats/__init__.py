"""Text and bytes to and from the core's model. No network, no database."""

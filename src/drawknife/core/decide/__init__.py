"""One decision: the gates in their order, folder by folder, with every reason."""

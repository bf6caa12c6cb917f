"""What may be written and how: names, rights, sizes, hours. Knows no model."""

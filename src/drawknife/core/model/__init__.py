"""The model: its items, what makes it sound, its canonical form, and edits of it."""

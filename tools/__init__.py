"""What starts and tests the product; not part of it."""

"""What follows from a change: two models held against each other."""

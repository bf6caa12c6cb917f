"""What the operating system lets through, by what was read from a disk (docs/rules.md,
"The disk").
"""

"""The rules, as pure functions over immutable data. See docs/rules.md.

Nothing here opens a file or a socket, reads a clock, or knows of a web framework or a database.
Each room uses only those above it:

    words        what may be written and how: names, rights, sizes, hours
    model        the items, soundness, canonical form, standing, edits
    prepared     a model made ready for many questions; what a question is and what it needs
    limits       how much room is left
    decide       one decision: the gates, the verdict, the explanation
    everybody    all accounts at once: the map, who, compare, findings
    follows      what follows from a change
"""

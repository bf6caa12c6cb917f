"""The rules, as pure functions over immutable data. See docs/rules.md.

Nothing here opens a file or a socket, reads a clock, or knows of a web framework or a database.

    names, rights        what may be written, and how
    model                the data: accounts, folders, entries, virtual paths, ...
    soundness            is a model sound: dangling names, loops, duplicates
    prepared             a model made ready for many questions
    identity             standing: what an account counts as
    settings             which setting reaches an account, and from where
    folders              deciding a right at a folder
    namespace            virtual paths: what an account sees
    endpoints, signin    the way in
    quotas               how much room is left
    gates                a question and its verdict
    explain              every gate, every entry, and what became of it
    access_map           everybody's rights everywhere, at once
    effective, who, compare, listing     the questions asked of it
    findings             what wants attention though nothing is broken
"""

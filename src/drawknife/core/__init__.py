"""The rules, as pure functions over immutable data. See docs/rules.md.

Nothing here opens a file or a socket, reads a clock, or knows of a web framework or a database.

    names, rights            what may be written, and how
    model                    the data: accounts, folders, entries, virtual paths, ...
    soundness                is a model sound: dangling names, loops, duplicates; its canonical form
    identity                 standing: what an account counts as
    prepared                 a model made ready for many questions
    folders, judgement       deciding a right at a folder; every entry's part in it
    namespace                virtual paths: what an account sees
    endpoints, signin        the way in
    settings                 which setting reaches an account, and from where
    quotas                   how much room is left
    question, demands        what is asked, and what that takes
    gates, quick, explain    the verdict; the quick way to it; all of why
    closed_form, division, access_map        everybody's rights everywhere, at once
    effective, who, compare, listing         the questions asked of it
    findings                 what wants attention though no rule is broken
"""

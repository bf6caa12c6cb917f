"""Changes modes and access control lists of a disk as a plan says, and puts them back.

`disk plan --apply` uses this, and `disk plan --script` prints it with its plan, to be run as root
on the machine that has the disk. It therefore uses Python's standard library alone, and nothing of
Drawknife.

What it keeps to:
- Each thing is opened below its folder without following a link, and changed through what was
  opened.
- A thing is changed only if it is as it was read: owner, group, mode and lists. Else it is left
  alone, with all below it.
- Folders are changed after everything in them, so that nobody gets to something before that is as
  planned.
- A folder is not opened to users who could then use something below it that is left alone.
- What a batch of things was is on disk before the first of them is changed. Killed at any moment,
  it can be put back.
"""

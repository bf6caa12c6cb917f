"""What limits leave, slow and literal: each limit that counts an upload, row by row of
the usage.
"""

from datetime import timedelta


def _below(path, top):
    return path == top or top == "/" or path.startswith(top + "/")


def limits(reference, owner, store, folder):
    """(name, hard bytes, hard files, soft bytes, soft files, grace, bytes over since, files over
    since, rows)
    """
    model = reference.model
    found = []

    def nearest(key):
        values = [v for v in reference.setting(owner, key) or [] if v != "unlimited"]
        return min(values) if values else None

    own = [u for u in model.usage if u.owner == owner]
    found.append(
        ("own", nearest("quota_bytes"), nearest("quota_files"), None, None, None, None, None, own)
    )
    for q in model.quotas:
        if q.folder is not None:
            if q.folder.store != store or not _below(folder, q.folder.path):
                continue
            rows = [
                u
                for u in model.usage
                if u.folder.store == store and _below(u.folder.path, q.folder.path)
            ]
        else:
            if not any(s in reference.standing(owner) for s in q.shared_by):
                continue
            rows = [
                u
                for u in model.usage
                if u.owner is not None
                and any(s in reference.standing(u.owner) for s in q.shared_by)
            ]
        found.append(
            (
                q.name,
                q.hard_bytes,
                q.hard_files,
                q.soft_bytes,
                q.soft_files,
                q.grace,
                q.bytes_over_since,
                q.files_over_since,
                rows,
            )
        )
    capacity = reference.stores[store].capacity
    there = [u for u in model.usage if u.folder.store == store]
    found.append(("capacity", capacity, None, None, None, None, None, None, there))
    return found


def _room(hard, soft, grace, since, used, at):
    if soft is not None and not grace:
        hard, soft = min(x for x in (hard, soft) if x is not None), None
    if (
        soft is not None
        and used > soft
        and since is not None
        and since <= at
        and at - since >= timedelta(seconds=grace)
    ):
        return 0
    return None if hard is None else max(0, hard - used)


def rooms(found, at):
    """For each limit the bytes and files that it still lets in; None: as many as one likes."""
    for name, hb, hf, sb, sf, grace, bytes_since, files_since, rows in found:
        yield (
            name,
            _room(hb, sb, grace, bytes_since, sum(u.bytes for u in rows), at),
            _room(hf, sf, grace, files_since, sum(u.files for u in rows), at),
        )


def uploads_owner(reference, name):
    return (reference.setting(name, "uploads_owner") or [name])[0]


def headroom(reference, name, location, at):
    """(bytes, files) that the account can put at a location; None: as many as one likes."""
    where = reference.resolve(name, location)
    if where[0] != "real":
        return None
    each = list(rooms(limits(reference, uploads_owner(reference, name), where[1], where[2]), at))
    return tuple(min((x[i] for x in each if x[i] is not None), default=None) for i in (1, 2))


def lets(reference, q, at):
    """Is there room for what a question adds?"""
    if q.action not in ("upload", "overwrite", "append", "rename"):
        return True
    where = reference.resolve(q.account, q.path)
    folder = where[2].rsplit("/", 1)[0] or "/"
    size = q.size or 0
    if q.action == "rename":
        there = reference.resolve(q.account, q.to)
        target = there[2]
        if q.thing == "file":
            target = target.rsplit("/", 1)[0] or "/"
        else:
            folder = where[2]
        if reference.plan(q)[1]:
            return True
        files = (q.files or 0) if q.thing == "folder" else 0 if q.replaces else 1
        quotas = {x.name: x for x in reference.model.quotas if x.folder is not None}
        asked = [
            x
            for x in limits(reference, q.account, there[1], target)
            if x[0] in quotas and not _below(folder, quotas[x[0]].folder.path)
        ]
    else:
        largest = [
            v for v in reference.setting(q.account, "upload_limit") or [] if v != "unlimited"
        ]
        whole = size + (q.replaced_size or 0) if q.action == "append" else size
        if largest and whole > min(largest):
            return False
        files = 1 if q.action == "upload" else 0
        owner = (
            uploads_owner(reference, q.account) if q.action == "upload" else q.owner or q.account
        )
        if q.action == "overwrite":
            size -= q.replaced_size or 0
        asked = limits(reference, owner, where[1], folder)
    return all(
        (b is None or size <= 0 or size <= b) and (f is None or files <= 0 or files <= f)
        for _, b, f in rooms(asked, at)
    )

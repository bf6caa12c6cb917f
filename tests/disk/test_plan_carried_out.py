"""A plan that is carried out: what it leaves alone, and how it is put back."""

import os
import stat
from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.disk.one_object import lets
from drawknife.core.disk.read_folders import made_below
from drawknife.core.everybody.disk_plan import DiskPlan
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import BadValue, check_path
from drawknife.core.words.rights import BUNDLES
from drawknife.disk import read_disk
from drawknife.disk.plan_text import as_thing, plan_data
from drawknife.disk.standalone import carrying_out, file_names
from drawknife.disk.standalone import lists_and_modes as modes
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT

from .test_everybody import random_thing
from .test_kernel import AS_ROOT
from .test_plan import as_it_was, can_use, carried_out, promising, thing_at
from .trees import USERS, model_of, random_tree

# --- what is left alone -------------------------------------------------------------------------


def opening(root, more=()):
    """A server that opens a store to u0, of which the disk is closed to all but root."""
    for path in (root, *more):
        os.chown(path, 0, 0)
        os.chmod(path, 0o700 if path.is_dir() else 0o600)
    model = model_of(root)
    entries = (m.Entry("allow", m.Subject("account", "u0"), BUNDLES["read"]),)
    store = replace(
        model.stores[0], baseline="closed", folders=(m.Folder("/", None, False, entries),)
    )
    return DiskPlan(prepare(sound(replace(model, stores=(store,)))), "s")


@AS_ROOT
@pytest.mark.parametrize("name", [b"priva\xcc\x88te", b"not utf-8 \xff", b"control \x01"])
def test_a_folder_that_the_reading_left_out_stays_closed(tmp_path, name):
    """A name that no model can hold, mode 0700, files in it for everybody: neither it nor what is
    in it is opened.
    """
    root = tmp_path / "root"
    inner = root / "inner"
    inner.mkdir(parents=True)
    for above in (*tmp_path.parents, tmp_path):
        os.chmod(above, os.stat(above).st_mode | 0o011)
    odd = os.path.join(os.fsencode(inner), name)
    os.mkdir(odd, 0o700)
    with open(os.path.join(odd, b"secret"), "w") as file:
        file.write("x")
    plan = opening(root, (inner,))
    done, _ = carried_out(root, plan, plan.steps())
    assert stat.S_IMODE(os.stat(odd).st_mode) == 0o700 and not can_use(
        USERS[0], os.path.join(odd, b"secret")
    )
    assert [x.path for x in done.left] == [
        b"inner/" + name
    ] and done.changed == 2  # the rest is opened
    # Where the left folder itself is open to everybody, what lies above it stays closed.
    os.chmod(odd, 0o755)
    os.chmod(root, 0o700), os.chmod(inner, 0o700)
    for path in (root, inner):
        os.removexattr(path, ACCESS) if ACCESS in os.listxattr(path) else None
        os.removexattr(path, DEFAULT) if DEFAULT in os.listxattr(path) else None
        os.chmod(path, 0o700)
    plan = opening(root, (inner,))
    done, _ = carried_out(root, plan, plan.steps())
    # The root can be opened: the way on is closed.
    assert done.changed == 1 and [x.path for x in done.left] == [b"inner/" + name, b"inner"]
    assert (
        not can_use(USERS[0], os.path.join(odd, b"secret"))
        and "would give more users access" in done.left[1].why
    )


@AS_ROOT
def test_what_changed_since_the_reading_is_left_alone_with_all_below_it(tmp_path):
    root = tmp_path / "root"
    private, gone, file = root / "private", root / "gone", root / "file"
    (private / "deeper").mkdir(parents=True)
    gone.mkdir()
    file.write_text("x")
    for above in (*tmp_path.parents, tmp_path):
        os.chmod(above, os.stat(above).st_mode | 0o011)
    plan = opening(root, (private, private / "deeper", gone, file))
    steps = plan.steps()
    gone.rmdir()
    os.chmod(private, 0o711)  # made otherwise after the reading
    os.chmod(file, 0o604)
    done, _ = carried_out(root, plan, steps)
    assert (
        stat.S_IMODE(private.stat().st_mode) == 0o711
        and stat.S_IMODE((private / "deeper").stat().st_mode) == 0o700
    )
    why = {x.path: x.why for x in done.left}
    assert (
        "changed since it was read" in why[b"private"]
        and why[b"file"] == "changed since it was read"
    )
    assert "would give more users access" in why[b""]  # others could read the file
    assert done.changed == 0 and not can_use(USERS[0], file)
    # As somebody changes it in between: it is looked at once more before it is changed.
    os.chmod(file, 0o600), os.chmod(private, 0o700)

    def meanwhile(text):
        os.chmod(private / "deeper", 0o750)

    data = plan_data(plan.disk.reading, str(root), steps)
    done = carrying_out.carry_out(str(root), data, meanwhile)
    assert "changed meanwhile" in {x.path: x.why for x in done.left}[b"private/deeper"]
    assert stat.S_IMODE((private / "deeper").stat().st_mode) == 0o750


@AS_ROOT
def test_only_a_part_is_changed_where_only_that_is_wanted(tmp_path):
    root = tmp_path / "root"
    one, other = root / "one", root / "other"
    one.mkdir(parents=True), other.mkdir()
    plan = opening(root, (one, other))
    done, kept = carried_out(root, plan, plan.steps(), "/one")
    assert [path for path, _ in modes.kept_things(kept)] == [b"one"] and done.changed == 1
    assert stat.S_IMODE(other.stat().st_mode) == 0o700


@AS_ROOT
def test_links_are_not_followed_and_files_with_other_names_are_left(tmp_path):
    rng = Random(1)
    with random_tree(rng) as root:
        (root / "twice").write_text("x")
        os.link(root / "twice", root.parent / "elsewhere")
        os.symlink("/etc", root / "link")
        before = os.stat("/etc").st_mode, thing_at(root / "twice", False)
        plan = DiskPlan(prepare(promising(root, rng)), "s")
        carried_out(root, plan, plan.steps())
        assert (os.stat("/etc").st_mode, thing_at(root / "twice", False)) == before


@AS_ROOT
def test_a_failure_stops_and_is_put_back(monkeypatch):
    rng = Random(1)
    with random_tree(rng) as root:
        plan = DiskPlan(prepare(promising(root, rng)), "s")
        data = plan_data(plan.disk.reading, str(root), plan.steps())
        was = as_it_was(read_disk(str(root), "s"))
        real, count, kept = os.setxattr, [], []

        def failing(*arguments):
            count.append(1)
            if len(count) == 3:
                raise OSError(28, "No space left on device")
            real(*arguments)

        with monkeypatch.context() as patched:
            patched.setattr(os, "setxattr", failing)
            with pytest.raises(OSError, match="No space left"):
                carrying_out.carry_out(str(root), data, kept.append)
        assert as_it_was(read_disk(str(root), "s")) != was
        carrying_out.put_back(str(root), b"".join(kept))
        assert as_it_was(read_disk(str(root), "s")) == was
        with pytest.raises(modes.NotKept, match="line 3"):
            carrying_out.put_back(str(root), b"# file: .\n# owner: 0\nnonsense\n\n")


@AS_ROOT
@pytest.mark.parametrize("seed", range(int(os.environ.get("DISK_KILLS") or 8)))
def test_killed_at_any_moment_it_can_be_put_back(seed, tmp_path, monkeypatch):
    """The process ends between any two calls that change something, in the middle of one thing,
    too.
    """
    rng = Random(f"kill {seed}")
    monkeypatch.setattr(carrying_out, "BATCH", 5)
    with random_tree(rng, folders=12, files=16) as root:
        plan = DiskPlan(prepare(promising(root, rng)), "s")
        data = plan_data(plan.disk.reading, str(root), plan.steps())
        was = as_it_was(read_disk(str(root), "s"))
        kept = tmp_path / "kept.acl"
        left = rng.randint(1, 40)
        child = os.fork()
        if child == 0:

            def counted(real):
                def call(*arguments):
                    nonlocal left
                    left -= 1
                    if left < 0:
                        os._exit(9)
                    return real(*arguments)

                return call

            for name in ("setxattr", "chmod", "removexattr", "fdatasync"):
                setattr(os, name, counted(getattr(os, name)))
            with carrying_out.kept_in(str(kept)) as keep:
                carrying_out.carry_out(str(root), data, keep)
            os._exit(0)
        os.waitpid(child, 0)
        text = kept.read_bytes() if kept.exists() else b""
        # The last block may be cut anywhere, and what is before it is good.
        carrying_out.put_back(str(root), text)
        assert as_it_was(read_disk(str(root), "s")) == was
        if text:
            whole = modes.kept_things(text)
            assert modes.kept_things(text[: -rng.randint(1, 20)]) == whole[:-1]


@given(
    st.binary(min_size=1, max_size=6).filter(
        lambda name: not {0, 0x2F} & set(name) and name not in (b".", b"..")
    )
)
@settings(max_examples=300)
def test_a_name_is_kept_as_getfacl_writes_it_and_is_in_a_model_if_it_can_be(name):
    thing = modes.Thing(5, 6, 0o1750, modes.Acl(7, ((8, 5),), 5, ((9, 4),), 7, 0))
    assert modes.kept_things(modes.as_getfacl(name, thing)) == [(name, thing._replace(mode=0o1770))]
    try:
        expected = check_path("/a/" + name.decode("utf-8"))
    except (BadValue, UnicodeDecodeError):
        expected = None
    assert file_names.location_of("/a", name) == expected


@given(st.integers(0, 10**9))
@settings(max_examples=300)
def test_the_script_judges_a_thing_as_the_product_does(seed):
    """What it is on its own for: the same check, the same folders below, the same text."""
    thing = random_thing(Random(seed))
    mine = as_thing(thing)
    assert modes.thing_from_text(str(thing)) == mine
    assert modes.made_below(mine) == as_thing(made_below(thing))
    for user in USERS:
        for bit in (d.READ, d.WRITE, d.SEARCH):
            found = modes.allows(modes.User(user.uid, user.gid, user.groups), mine, bit)
            assert found == lets(user, thing, bit)

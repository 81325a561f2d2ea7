"""Packing the source tree into a bundle, and listing bundles."""

from __future__ import annotations

from pathlib import PurePosixPath

from msgspec import Struct

from inchworm import __version__
from inchworm.application.checking import Checked, check, checked_before
from inchworm.application.library_tests import check_libraries
from inchworm.application.route import ask_passages
from inchworm.application.signing import keep_head, sign_bundle
from inchworm.application.workplace import Workplace
from inchworm.core.bundle.bundle import Bundle, Provenance, pack
from inchworm.core.checks.rules import OTHER_CONTENT
from inchworm.core.errors import BundleError, UsageError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.events import Packed
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import LIBRARY_PROJECT, LIBRARY_TESTS
from inchworm.core.promotion.drafting.standing import other_content
from inchworm.core.promotion.states import State
from inchworm.project.tree import PART_FOLDERS


class PackResult(Struct, frozen=True, kw_only=True):
    """A bundle that was packed, or the findings that refuse it.

    Attributes:
        bundle: None when there are errors.
        is_known: whether it was packed before, with the same digest.
        equal_at: the commit that is checked out, where the bundle that is kept was packed from
            another one with the same content.
        file: where it is.
        wheels: where the wheels of its libraries are.
        is_signed: whether whoever packed it has signed it.
        why_snapshot: why it is no release; empty when it is one.
        unasked: environments that could not be asked whether they have the version otherwise.
    """

    checked: Checked
    bundle: Bundle | None = None
    is_known: bool = False
    equal_at: str | None = None
    file: str = ""
    wheels: tuple[str, ...] = ()
    is_signed: bool = False
    why_snapshot: str = ""
    unasked: tuple[str, ...] = ()


def pack_tree(workplace: Workplace, *, only_release: bool = False) -> PackResult:
    """Pack the source tree, and record it, unless check finds errors.

    Args:
        workplace: the project.
        only_release: whether anything but a release is refused.

    Raises:
        UsageError: when it is no release, and has to be one.
        BundleError: when the version is packed or promoted already with other content.
    """
    checked = checked_before(workplace.tree, workplace.today)
    if checked is None:
        reading, checked = check(workplace)
    else:
        reading, _ = workplace.read()
    if checked.has_errors:
        return PackResult(checked=checked)
    check_libraries(workplace)
    git = workplace.project.git
    version = workplace.project.settings.version
    is_tagged = bool({version, f"v{version}"}.intersection(git.tags))
    why_snapshot = _why_snapshot(workplace, is_tagged=is_tagged)
    if only_release and why_snapshot:
        raise UsageError(
            f"this is no release: {why_snapshot}.",
            next=f"Commit everything, tag the commit v{version} where releases come from, and pack "
            "again; or pack a snapshot: without --release.",
        )
    bundle = _bundle(workplace, reading.assembly, checked, is_snapshot=bool(why_snapshot))
    is_known = bundle.name in workplace.bundles.names()
    unasked = () if is_known or bundle.snapshot else _check_unused(workplace, bundle)
    file, kept = workplace.bundles.put(bundle)
    version_of_wheels = bundle.name.removeprefix(f"{bundle.project}-")
    wheels = tuple(
        workplace.bundles.put_wheel(*library_wheel(part, reading.assembly, version_of_wheels))
        for part in reading.assembly.of_kind(Kind.LIBRARY)
    )
    is_signed = sign_bundle(workplace, kept)
    if not is_known:
        workplace.ledger.packed(bundle.name, Packed.of_bundle(bundle))
        keep_head(workplace)
    return PackResult(
        checked=checked,
        bundle=kept,
        equal_at=git.commit if git.commit != kept.commit else None,
        is_known=is_known,
        file=file,
        wheels=wheels,
        is_signed=is_signed,
        why_snapshot=why_snapshot,
        unasked=unasked,
    )


def _bundle(
    workplace: Workplace, assembly: Assembly, checked: Checked, *, is_snapshot: bool
) -> Bundle:
    """The bundle of the source tree; the tests of libraries stay outside."""
    git = workplace.project.git
    return pack(
        assembly,
        {
            path: content
            for path, content in workplace.tree.contents.below(PART_FOLDERS).items()
            if not path.startswith(LIBRARY_TESTS)
        },
        checked.findings,
        Provenance(
            commit=git.commit,
            committed_at=git.committed_at,
            branch=git.branch,
            clean=git.clean,
            tool=f"inchworm {__version__}",
        ),
        snapshot=is_snapshot,
    )


def library_wheel(part: PartId, assembly: Assembly, version: str) -> tuple[str, bytes]:
    """The wheel of a library: the name of its file, and the file.

    Args:
        part: the library.
        assembly: all parts of the project.
        version: of the bundle, such as ``1.4.0-snapshot.7b2bf5b9``.
    """
    from inchworm.core.bundle.wheel import build_wheel  # only where there is a library

    outline = assembly.outlines[part]
    files = {
        str(PurePosixPath(file.path).relative_to("library")): file.content
        for file in assembly.parts[part].files
        if PurePosixPath(file.path).name != LIBRARY_PROJECT
    }
    return build_wheel(part.name, version, files, outline.requires, outline.python)


def _check_unused(workplace: Workplace, bundle: Bundle) -> tuple[str, ...]:
    """Whether the version is still free: by the ledger, and by every database that answers.

    Returns:
        The names of environments that could not be asked.

    Raises:
        BundleError: when the version was packed or promoted with other content.
    """
    passages = ask_passages(workplace, [e.name for e in workplace.project.environments])
    for passage in passages:
        for finding in other_content(
            bundle.name, bundle.digest, passage.promotions, passage.environment
        ):
            raise BundleError(f"{finding.message}.", next=finding.remedy)
    other = sorted(workplace.ledger.digests(bundle.name) - {bundle.digest})
    if other:
        raise BundleError(
            f"{bundle.name} was packed before with other content ({other[0][:19]}); this one is "
            f"{bundle.digest[:19]}.",
            next=OTHER_CONTENT.remedy,
        )
    return tuple(passage.environment for passage in passages if passage.problem)


def _why_snapshot(workplace: Workplace, *, is_tagged: bool) -> str:
    git = workplace.project.git
    if git.commit is None:
        return "there is no commit"
    if not git.clean:
        return "the tree has changes that are not committed"
    settings = workplace.project.settings
    if not is_tagged:
        return f"the commit has no tag v{settings.version}"
    if not git.is_released:
        return f"the commit is not on {settings.release_branch}, where releases come from"
    return ""


class ListedBundle(Struct, frozen=True, kw_only=True):
    """A bundle of the store, or why it cannot be read.

    Attributes:
        promoted_to: the environments that it went into completely.
    """

    name: str
    bundle: Bundle | None = None
    problem: str = ""
    promoted_to: tuple[str, ...] = ()


def list_bundles(workplace: Workplace) -> list[ListedBundle]:
    """All bundles of the store, with where each has been promoted.

    Raises:
        LedgerError: when an entry of the ledger was altered.
    """
    workplace.ledger.check()
    went: dict[str, list[str]] = {}
    for summary in workplace.ledger.summaries():
        places = went.setdefault(summary.bundle_digest, [])
        if summary.state is State.DONE and summary.environment not in places:
            places.append(summary.environment)
    for heard in workplace.ledger.heard():
        places = went.setdefault(heard.promotion.digest, [])
        if heard.environment not in places:
            places.append(heard.environment)
    listed: list[ListedBundle] = []
    for name in workplace.bundles.names():
        try:
            bundle = workplace.bundles.get(name)
            bundle.verify()
        except BundleError as error:
            listed.append(ListedBundle(name=name, problem=error.what))
            continue
        to = tuple(went.get(bundle.digest, ()))
        listed.append(ListedBundle(name=name, bundle=bundle, promoted_to=to))
    return listed

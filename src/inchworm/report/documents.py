"""The JSON documents of the commands, each with its ``format``.

What a document is made of is imported where it is made, so that those who want a small one do not
wait for all.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec.structs import asdict

if TYPE_CHECKING:
    from inchworm.application.comparing import SidesCompared
    from inchworm.application.entry import Entry
    from inchworm.application.history import Life, LiveThen
    from inchworm.application.packing import ListedBundle
    from inchworm.application.parameters import Live, MatrixView
    from inchworm.application.sampling import Rows
    from inchworm.application.watching import Drift, Status
    from inchworm.core.bundle.bundle import Bundle
    from inchworm.core.bundle.compare import Change
    from inchworm.core.checks.findings import Finding
    from inchworm.core.entry.judging import Judged
    from inchworm.core.execution import StepReport
    from inchworm.core.ledger.promotions import HeardPromotion, Summary
    from inchworm.core.lineage.graph import Edge
    from inchworm.core.parameters.matrix import Parameter
    from inchworm.core.promotion.composition import CompletedPromotion
    from inchworm.core.promotion.promotion import Draft, Promotion
    from inchworm.engine.status import EnvironmentStatus

Document = dict[str, Any]


def findings_document(findings: Iterable[Finding]) -> Document:
    """``inchworm/findings/1``."""
    return {"format": "inchworm/findings/1", "findings": [f.to_json() for f in findings]}


def lineage_document(edges: Iterable[Edge]) -> Document:
    """``inchworm/lineage/1``."""
    return {
        "format": "inchworm/lineage/1",
        "edges": [
            {"from": str(edge.source), "to": str(edge.target), "how": edge.how.value}
            for edge in edges
        ],
    }


def rows_document(shown: Rows) -> Document:
    """``inchworm/rows/1``."""
    return {
        "format": "inchworm/rows/1",
        "of": shown.part,
        "source": shown.source,
        "environment": shown.environment.name,
        "identity": shown.identity,
        "read_at": shown.read_at,
        "selected": [
            {
                "about": each.about,
                "sql": each.sql,
                "computed": list(map(str, each.computed)),
                **(each.sample.to_json() if each.sample else {}),
            }
            for each in shown.selected
        ],
    }


def comparison_document(before: str, after: str, changes: Sequence[Change]) -> Document:
    """``inchworm/comparison/1``."""
    from inchworm.core.bundle.compare import weight_of

    return {
        "format": "inchworm/comparison/1",
        "before": before,
        "after": after,
        "weight": weight_of(list(changes)).value,
        "changes": [
            {
                "part": None if change.part is None else str(change.part),
                "what": change.what,
                "item": change.item,
                "detail": change.detail,
                "weight": change.weight.value,
                "affected": list(change.affected),
                "felt_by": list(change.affected),
            }
            for change in changes
        ],
    }


def sides_document(compared: SidesCompared) -> Document:
    """``inchworm/sides/1``."""
    from inchworm.core.bundle.sides import counts

    return {
        "format": "inchworm/sides/1",
        "a": compared.a.name,
        "b": compared.b.name,
        "counts": {state.value: n for state, n in counts(compared.parts).items()},
        "parts": [
            {
                "part": str(c.part),
                "state": c.state.value,
                "a": c.a,
                "b": c.b,
                "details": list(c.details),
            }
            for c in compared.parts
        ],
        "schedules": [
            {"schedule": name, "a": one, "b": other} for name, one, other in compared.schedules
        ],
        "rights": [{"right": name, "a": one, "b": other} for name, one, other in compared.rights],
        "texts": [
            {"part": str(text.part), "path": path, "a": one, "b": other}
            for text in compared.texts
            for path, (one, other) in text.files.items()
        ],
    }


def bundle_document(bundle: Bundle, file: str, wheels: Sequence[str]) -> Document:
    """``inchworm/bundle/1``."""
    return {
        "format": "inchworm/bundle/1",
        "bundle": bundle.name,
        "digest": bundle.digest,
        "file": file,
        "commit": bundle.commit,
        "snapshot": bundle.snapshot,
        "wheels": list(wheels),
    }


def promotion_document(promotion: Promotion) -> Document:
    """``inchworm/promotion/1`` of a recorded promotion."""
    reports = {step.number: promotion.report_of(step) for step in promotion.draft.steps}
    document = draft_document(promotion.draft, promotion.state.value, str(promotion.id), reports)
    return document | {
        "drafted_at": promotion.drafted_at,
        "drafted_by": promotion.drafted_by,
        "changed_at": promotion.changed_at,
        "changed_by": promotion.changed_by,
        "commit": promotion.commit,
        "message": promotion.message,
        "approvals": [
            {
                "verdict": each.verdict.value,
                "by": each.by,
                "identity": each.identity.value,
                "at": each.at,
                "because": each.because,
            }
            for each in promotion.approvals
        ],
        "entry": judged_document(promotion.admission.judged if promotion.admission else ()),
        "exception": promotion.admission.exception if promotion.admission else "",
    }


def recorded_document(promotion: Promotion) -> Document:
    """The same with the SQL of each step, as it was recorded when the promotion began."""
    document = promotion_document(promotion)
    of_step = promotion.statements
    for step in document["steps"]:
        step["sql"] = list(of_step.get(step["number"], ()))
    return document


def entry_document(entry: Entry) -> list[Document]:
    """The entry conditions of a promotion, met or missing, by what evidence."""
    return judged_document(entry.judged)


def judged_document(judged: Iterable[Judged]) -> list[Document]:
    """Entry conditions, met or missing, by what evidence."""
    return [
        {"condition": each.condition, "met": each.is_met, "evidence": each.evidence}
        for each in judged
    ]


def draft_document(
    draft: Draft, state: str, id_: str | None = None, reports: dict[int, StepReport] | None = None
) -> Document:
    """``inchworm/promotion/1`` of a draft; without an id it is not recorded."""
    from inchworm.core.execution import StepReport, StepState

    waiting = StepReport(state=StepState.WAITING)
    steps = [(step, (reports or {}).get(step.number, waiting)) for step in draft.steps]
    return {
        "format": "inchworm/promotion/1",
        "id": id_,
        "environment": draft.environment,
        "corner": draft.corner or None,
        "bundle": draft.bundle,
        "digest": draft.digest,
        "state": state,
        "steps": [
            step.to_json()
            | {"state": report.state.value, "message": report.message, "seconds": report.seconds}
            | {"rows": report.rows, "size": report.size}
            | {"failing_rows": {check: s.to_json() for check, s in report.samples.items()}}
            for step, report in steps
        ],
        "changes": {
            str(part): [change.to_json() for change in changes]
            for part, changes in draft.changes.items()
        },
        "values": [value.to_json() for value in draft.differing],
        "secrets": [secret.to_json() for secret in draft.secrets],
        "overrides": dict(draft.overrides),
        "left_alone": dict(draft.left_alone),
        "direction": draft.direction.value,
        "runs_there": _completed(draft.runs_there) if draft.runs_there else None,
        "rollback": draft.rollback.to_json() if draft.rollback else None,
        "stays": {str(part): source or None for part, source in draft.sources.items()},
        "holds": [hold.to_json() for hold in draft.holds],
        "findings": [finding.to_json() for finding in draft.findings],
    }


def _completed(promotion: CompletedPromotion) -> Document:
    id_ = promotion.id
    return {
        "promotion": str(id_ or promotion.promotion),
        "ledger": id_.ledger if id_ else None,
        "number": promotion.number,
        "bundle": promotion.bundle,
        "digest": promotion.digest,
        "commit": promotion.commit,
        "by": promotion.by,
        "at": promotion.at,
    }


def history_document(
    promotions: Iterable[Promotion], heard: Iterable[HeardPromotion] = ()
) -> Document:
    """``inchworm/history/1``."""
    return {
        "format": "inchworm/history/1",
        "promotions": [promotion_document(promotion) for promotion in promotions],
        "of_other_ledgers": [
            {"environment": each.environment, **_completed(each.promotion)} for each in heard
        ],
    }


def life_document(life: Life) -> Document:
    """``inchworm/life/1``: what promotions did to a part, the latest first."""
    return {
        "format": "inchworm/life/1",
        "part": str(life.part),
        "heard": [asdict(heard) for heard in life.heard],
        "events": [
            {
                "promotion": str(event.promotion),
                "environment": event.environment,
                "bundle": event.bundle,
                "action": event.step.action,
                "item": event.step.item,
                "reason": event.step.reason,
                "state": event.report.state.value,
                "at": event.at,
                "by": event.by,
                "taken_back": event.taken_back or None,
            }
            for event in life.events
        ],
    }


def status_at_document(at: str, live: Sequence[LiveThen]) -> Document:
    """``inchworm/status-at/1``: what ran at a time, as the ledger knows."""
    return {
        "format": "inchworm/status-at/1",
        "at": at,
        "environments": [
            {
                "name": each.environment,
                "promotion": each.promotion or None,
                "bundle": each.bundle or None,
                "commit": each.commit,
                "since": each.since or None,
                "by": each.by or None,
            }
            for each in live
        ],
    }


def status_document(read: Status) -> Document:
    """``inchworm/status/1``."""
    return {
        "format": "inchworm/status/1",
        "read_at": read.read_at,
        "environments": [
            _environment(status)
            | {"unknown_there": _unknown(read.unknown_there.get(status.environment.name))}
            for status in read.environments
        ],
        "unfinished": [
            {
                "promotion": str(summary.id),
                "bundle": summary.bundle,
                "environment": summary.environment,
                "state": summary.state.value,
                "at_work": read.at_work[summary.environment] or None,
            }
            for summary in read.unfinished
        ],
        "missing_ledgers": {name: i for name, (i, _) in read.missing_ledgers.items()},
    }


def _unknown(lacking: Summary | None) -> Document | None:
    """A promotion that the ledger has, and that the environment's database lacks."""
    if lacking is None:
        return None
    return {
        "promotion": str(lacking.id),
        "bundle": lacking.bundle,
        "at": lacking.changed_at,
        "by": lacking.changed_by,
    }


def _environment(status: EnvironmentStatus) -> Document:
    live, last = status.live, status.live.last if status.live else None
    return {
        "name": status.environment.name,
        "protected": status.environment.protected,
        "identity": live.identity if live else None,
        "bundle": last.bundle if last else None,
        "digest": last.digest if last else None,
        "commit": last.commit if last else None,
        "since": last.at if last else None,
        "by": last.by if last else None,
        "exception": last.exception if last else "",
        "promotion": str(last.id or last.promotion) if last else None,
        "ledger": last.id.ledger if last and last.id else None,
        "number": last.number if last else None,
        "parts": len(live.parts) if live else None,
        "held": len(live.holds) if live else 0,
        "holds": [hold.to_json() for hold in live.holds] if live else [],
        "mixture": dict(last.mixture.sources) if last else {},
        "drifted": len(status.drifted),
        "drifted_parts": [str(part) for part in status.drifted],
        "schedules": dict(live.schedules) if live else {},
        "api_versions": [
            {
                "flow": each.flow,
                "version": each.version,
                "state": state.value,
                "since": each.put_at,
                "requests": each.requests,
                "requested_at": each.requested_at or None,
            }
            for each, state in (status.api_versions if live else ())
        ],
        "notebooks_unreachable": live.notebooks_unreachable if live else "",
        "problem": status.problem,
    }


def bundles_document(bundles: Iterable[ListedBundle]) -> Document:
    """``inchworm/bundles/1``."""
    return {"format": "inchworm/bundles/1", "bundles": [_listed_bundle(each) for each in bundles]}


def _listed_bundle(listed: ListedBundle) -> Document:
    bundle = listed.bundle
    if bundle is None:
        return {"bundle": listed.name, "problem": listed.problem}
    return {
        "bundle": listed.name,
        "digest": bundle.digest,
        "commit": bundle.commit,
        "committed_at": bundle.manifest["provenance"]["committed_at"],
        "snapshot": bundle.snapshot,
        "parts": len(bundle.manifest["parts"]),
        "promoted_to": list(listed.promoted_to),
    }


def drift_document(drift: Drift) -> Document:
    """``inchworm/drift/1``."""
    return {
        "format": "inchworm/drift/1",
        "environment": drift.environment.name,
        "read_at": drift.read_at,
        "since": drift.since,
        "unknown_there": _unknown(drift.unknown_there),
        "drifted": [
            {
                "part": str(each.part.part),
                "differences": [
                    {"what": d.what, "item": d.key, "was": d.was, "now": d.now}
                    for d in each.differences
                ],
                "affected": list(each.affected),
                "felt_by": list(each.affected),
                "remedy": each.remedy,
            }
            for each in drift.parts
        ],
    }


def parameters_document(
    matrix: MatrixView,
    shown: Iterable[Parameter],
    environments: Sequence[str],
    live: Mapping[str, Live] | None = None,
) -> Document:
    """``inchworm/parameters/1``; with what is live in each environment, where that was asked."""
    return {
        "format": "inchworm/parameters/1",
        "parameters": [
            {
                "name": parameter.name,
                "type": parameter.type.value,
                "about": parameter.about,
                "unit": parameter.unit,
                "differs": matrix.differs(parameter, environments),
                "values": {
                    name: {
                        "value": matrix.text(parameter, name),
                        "file": parameter.file,
                        "line": parameter.line_for(name),
                        **({"live": _live_document(live[name])} if live else {}),
                    }
                    for name in environments
                },
                "uses": [{"part": part, "at": at} for part, at in matrix.uses(parameter)],
            }
            for parameter in shown
        ],
    }


def _live_document(live: Live) -> Document | None:
    if live is None:
        return None
    if isinstance(live, str):
        return {"problem": live}
    return {"value": live.value, "bundle": live.bundle, "since": live.since}

"""Running what a promotion has just put in place, as its environment demands by ``[[verify]]``."""

from __future__ import annotations

from inchworm.application.running import keep_output, stop_asked
from inchworm.application.workplace import LOCKS, Workplace
from inchworm.core.identifiers import PartId
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.running.planning import fails_by_warnings, plan_steps, seconds_of, subject_of
from inchworm.core.running.run import Run, RunPlan
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.runner import RunWork, execute_within


def run_within(
    workplace: Workplace,
    prepared: Prepared,
    promotion: Promotion,
    place: OpenEnvironment,
    name: str,
) -> Run:
    """Run a part of a promotion that is about to end, where it has put everything in place.

    Args:
        workplace: the workplace.
        prepared: the promotion's bundle, made ready for the environment.
        promotion: the promotion.
        place: the environment, which the promotion has open and locked.
        name: a pipeline, model, notebook or flow.

    Raises:
        UsageError: when there is nothing of that name.
        TargetError: when the environment cannot be reached any more.
        KeyboardInterrupt: after recording where it stopped.
    """
    assembly = prepared.reading.assembly
    subject = subject_of(name, assembly)
    steps = plan_steps(subject, assembly, prepared.rendered)
    parts = (subject, *(step.part for step in steps if isinstance(step.part, PartId)))
    used = {use.parameter for part in parts for use in assembly.outlines[part].uses}
    plan = RunPlan(
        environment=place.environment.name,
        subject=subject,
        bundle=prepared.bundle.name,
        bundle_digest=prepared.bundle.digest,
        commit=prepared.bundle.commit,
        today=promotion.draft.today,
        steps=steps,
        values={n: prepared.values[n].text for n in sorted(used) if n in prepared.values},
        started=str(promotion.id),
        seconds=seconds_of(subject, assembly, prepared.rendered),
        warnings_fail=fails_by_warnings(subject, prepared.rendered),
        corner=place.environment.corner,
        process=workplace.process_name,
    )
    return execute_within(
        RunWork(
            prepared=prepared,
            plan=plan,
            done={},
            ledger=workplace.ledger,
            machine=workplace.machine,
            keep=keep_output(workplace),
            locks=workplace.root / LOCKS,
            by=workplace.user,
            now=place.clock(workplace.now),
            process=workplace.process,
            stop_asked=stop_asked(workplace),
        ),
        place,
    )

"""Parts that live in services: delivered, activated and taken away."""

from __future__ import annotations

import datetime as dt
import time
from typing import ClassVar

from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind
from inchworm.core.parameters.values import spell_duration
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import RenderedFlow, canonical
from inchworm.core.running.api_versions import version_of
from inchworm.engine.actions.base import Action
from inchworm.engine.site import Site
from inchworm.targets.services import Service


class _ServiceAction(Action):
    is_of_service = True
    leaves_mark = False
    repeatable: ClassVar[str] = (
        "Giving a service what it has, or taking away what is gone, changes nothing."
    )

    def service(self, site: Site) -> Service:
        """The service that the part lives in."""
        return site.place.service_of(self.part)


class Deliver(_ServiceAction):
    """Put a part into its service, and have a flow run."""

    phase = Phase.DELIVER

    def perform(self, site: Site) -> StepReport:
        """Deliver it, and record it as live."""
        rendered = site.rendered[self.part]
        service = self.service(site)
        service.put(self.part, rendered.digest, rendered.document)
        if service is site.place.notebooks:  # it may have been in the workspace before
            site.place.workspace.remove(self.part)
        message = "in place"
        if self.part.kind.is_activated:
            reason = site.place.gateway.activate(self.part)
            if reason is not None:
                return StepReport(
                    state=StepState.FAILED, message=f"the gateway refuses to activate it: {reason}"
                )
            state, why = self._started(site)
            if state != _ACTIVE:
                because = f": {why}" if why else ""
                return StepReport(state=StepState.FAILED, message=f"it is {state}{because}")
            message = _ACTIVE
        with site.database.transaction():
            site.bookkeeping.put([site.live_part(self.part)])
            if isinstance(rendered, RenderedFlow) and (version := version_of(rendered.content)):
                document = canonical(rendered.content).decode()
                site.api_versions.put(self.part.name, version, document, site.now())
        return StepReport(state=StepState.DONE, message=message)

    def _started(self, site: Site) -> tuple[str, str]:
        """The state of the flow, by its own word, as soon as it does not start any more."""
        waits = site.environment.gateway.waits
        until = time.monotonic() + waits
        while True:
            state, why = site.place.gateway.state_of(self.part)
            left = until - time.monotonic()
            if state != _STARTING:
                return state, why
            if left <= 0:
                return state, f"still, after {spell_duration(dt.timedelta(seconds=waits))}"
            time.sleep(min(_LOOKS_AGAIN, left))


_ACTIVE, _STARTING = "active", "starting"
_LOOKS_AGAIN = 1.0
"""Seconds after which a flow that starts is looked at again."""


class Forget(Action):
    """Forget a part of which a target has nothing, or keeps what it has."""

    phase = Phase.WITHDRAW
    repeatable: ClassVar[str] = "The step's mark is in the transaction that forgets the part."

    def perform(self, site: Site) -> StepReport:
        """Take it out of the record of what is live."""
        with site.database.transaction():
            site.bookkeeping.remove(self.part)
            site.mark(self.number)
        return StepReport(state=StepState.DONE, message="forgotten")


class Withdraw(_ServiceAction):
    """Take a part away from its service."""

    phase = Phase.WITHDRAW

    def perform(self, site: Site) -> StepReport:
        """Take it away, and forget it."""
        self.service(site).remove(self.part)
        with site.database.transaction():
            site.bookkeeping.remove(self.part)
            if self.part.kind is Kind.FLOW:
                site.api_versions.forget(self.part.name)
        return StepReport(state=StepState.DONE, message="removed")

"""Questions that an environment has to answer as expected, once everything is in place."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterator
from contextlib import closing
from typing import ClassVar

from inchworm.core.environments.verification import (
    Asked,
    Verification,
    holds,
    key_in_body,
    spelled,
    value_at,
)
from inchworm.core.errors import InchwormError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId
from inchworm.core.parameters.values import spell_duration
from inchworm.core.promotion.states import Phase
from inchworm.engine.actions.base import Action
from inchworm.engine.addresses import filled, secret_of
from inchworm.engine.site import Site
from inchworm.targets.http_client import http_client

_LOOKS_AGAIN = 2.0
"""Seconds after which a question is asked again."""


class AskVerification(Action):
    """Ask a question of the environment, and compare the answer."""

    phase = Phase.VERIFY
    leaves_mark = False
    repeatable: ClassVar[str] = "It only asks; a run is one more run."

    def verification(self, site: Site) -> Verification:
        """The question."""
        asking = self.step.part
        asked = (
            site.assembly.outlines[asking].verifications
            if isinstance(asking, PartId)
            else site.environment.verifications
        )
        return next(each for each in asked if each.name == self.step.item)

    def statements(self, site: Site) -> Iterator[str]:
        """The query, where the database is asked."""
        verification = self.verification(site)
        if verification.asked is Asked.QUERY:
            yield site.sql(verification.question, site.physical)

    def perform(self, site: Site) -> StepReport:
        """Ask until the answer is as expected, or the time is over."""
        verification = self.verification(site)
        until = time.monotonic() + verification.waits
        while True:
            answered, is_met = self._ask(site, verification)
            left = until - time.monotonic()
            if is_met or left <= 0:
                break
            time.sleep(min(_LOOKS_AGAIN, left))
        if is_met:
            return StepReport(state=StepState.DONE, message=answered)
        waits = dt.timedelta(seconds=verification.waits)
        waited = f", for {spell_duration(waits)}" if waits else ""
        wanted = verification.answer or f"status {verification.status}"
        message = f"{answered}{waited}; expected {wanted}"
        return StepReport(state=StepState.FAILED, message=message)

    def _ask(self, site: Site, verification: Verification) -> tuple[str, bool]:
        """The answer in words, and whether it is as expected."""
        try:
            match verification.asked:
                case Asked.QUERY:
                    return self._query(site, verification)
                case Asked.VALUE:
                    value = site.prepared.values[verification.question].text
                    return value, holds(verification.answer, value)
                case Asked.HTTP:
                    return self._http(site, verification)
                case Asked.RUN:
                    return self._run(site, verification)
        except InchwormError as error:
            return error.what.rstrip("."), False

    def _query(self, site: Site, verification: Verification) -> tuple[str, bool]:
        with site.database.reading():
            rows = site.database.rows(site.sql(verification.question, site.physical))
        if not rows:
            return "no row", False
        return spelled(rows[0][0]), holds(verification.answer, rows[0][0])

    @staticmethod
    def _run(site: Site, verification: Verification) -> tuple[str, bool]:
        if site.failed:
            return "not run, as other steps failed", False
        assert site.run_subject is not None  # whoever carries promotions out gives it
        run = site.run_subject(verification.question)
        answered = f"{run.id} of {run.plan.subject} is {run.state.value}"
        if run.state.value != verification.answer:
            answered += f" (inchworm history {run.id})"
        return answered, run.state.value == verification.answer

    def _http(self, site: Site, verification: Verification) -> tuple[str, bool]:
        environment, values, machine = site.environment, site.prepared.values, site.place.machine
        url = filled(verification.question, environment, values)
        machine.trust.check_place(url)
        token = secret_of(verification.token, url, environment, machine, values)
        with closing(http_client(url, machine.root, token)) as client:
            answer = client.send("GET", "")
        answered = f"status {answer.status}"
        if answer.status != verification.status:
            return answered, False
        if not verification.answer:
            return answered, True
        key, expected = key_in_body(verification.answer)
        try:
            value = value_at(answer.json(), key)
        except (KeyError, ValueError):
            return f"{answered}, without {key} in its body", False
        return f"{key} is {spelled(value)}", holds(expected, value)

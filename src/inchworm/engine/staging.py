"""Relations of a promotion beside the live ones: staging and replaced tables, scratch schemas.

Each is recorded in the bookkeeping before, or with, its being made, and nothing that is not
recorded there is ever removed: a table of somebody else may have any name.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cached_property
from types import MappingProxyType

from msgspec.structs import replace

from inchworm.core.identifiers import RelationName
from inchworm.core.parts import Digest
from inchworm.core.promotion.aside import REPLACED, STAGING, Aside, Purpose, aside
from inchworm.core.running.run import is_run_key
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.targets.databases.protocols import Switch


class StagingArea:
    """The relations that one promotion or run has beside the live ones of an environment.

    Args:
        place: the environment.
        key: the promotion's or run's name in the database.
        taking_back: the physical names of models whose replaced tables go live again, rather than
            tables that are built.
    """

    def __init__(
        self, place: OpenEnvironment, key: str, taking_back: Collection[RelationName] = ()
    ) -> None:
        self._database = place.database
        self._bookkeeping = place.bookkeeping
        self._project = place.project
        self._key = key
        self._models_taken_back = taking_back

    @cached_property
    def names(self) -> Mapping[RelationName, RelationName]:
        """The staging relation of each model that is built, by the physical name of the model.

        Of one that is taken back, it is the table that an earlier promotion replaced.
        """
        reserved = {
            each.of: each.name
            for each in self._ours(Purpose.RESERVED)
            if each.promotion == self._key
        }
        return reserved | self._taking_back

    @cached_property
    def _taking_back(self) -> dict[RelationName, RelationName]:
        """The replaced tables that go live again, by the physical name of the model."""
        if not self._models_taken_back:
            return {}
        return {
            each.of: each.name
            for each in self._ours(Purpose.REPLACED)
            if each.promotion != self._key and each.of in self._models_taken_back
        }

    def replaced_table(self, model: RelationName) -> RelationName | None:
        """The table that goes live again in place of a model; None when it is not there."""
        return self._present_again.get(model)

    @cached_property
    def _present_again(self) -> dict[RelationName, RelationName]:
        """Those of the replaced tables that are there, asked once: there may be thousands."""
        names = self._taking_back
        kinds = self._database.kinds(frozenset(names.values())) if names else {}
        return {model: name for model, name in names.items() if name in kinds}

    def reserve(self, models: Iterable[RelationName], *, beside_others: bool = False) -> None:
        """Record the names of staging relations, so that nothing unrecorded is ever made.

        Names that something else has are not taken. What an earlier promotion left is removed.

        Args:
            models: their physical names.
            beside_others: whether other runs may be at work, on other models: then nothing but what
                was left of these models is nobody's.
        """
        models = frozenset(models)
        with self._database.transaction():
            recorded = self._ours(*Purpose)
            self._clear_leftovers(recorded, models if beside_others else None)
            own = (a for a in recorded if a.promotion == self._key)
            reserved = {each.of for each in own if each.purpose is Purpose.RESERVED}
            taken = set(self._database.kinds())
            self._bookkeeping.put_aside(
                self._aside(aside(model, STAGING, taken), Purpose.RESERVED, model)
                for model in sorted(models - reserved)
            )

    def supersede(self, models: Collection[RelationName]) -> None:
        """Remove what others have built where models of it have other rows from now on.

        A promotion that goes on builds it again; put in place as it is, it would bring back rows
        that are gone, and lose those that came. Called inside a transaction.

        Args:
            models: their physical names.
        """
        staged = [each for each in self._ours(Purpose.STAGING) if each.promotion != self._key]
        touched = {each.promotion for each in staged if each.of in models}
        built = [each.name for each in staged if each.promotion in touched]
        self._database.drop(built)
        self._bookkeeping.forget_aside(built, Purpose.STAGING)

    @property
    def present(self) -> frozenset[RelationName]:
        """The physical names of the models that are built, and are not live yet."""
        ours = self._ours(Purpose.STAGING)
        return frozenset(each.of for each in ours if each.promotion == self._key)

    def clear(self) -> None:
        """Remove everything that was built and never went live, and all reserved names."""
        with self._database.transaction():
            self._remove([a for a in self._ours(*Purpose) if a.promotion == self._key])

    def built(self, model: RelationName) -> None:
        """Record that a model's staging relation is built. Called in that transaction."""
        self._bookkeeping.put_aside([self._aside(self.names[model], Purpose.STAGING, model)])

    def discard(self, models: Collection[RelationName]) -> None:
        """Remove the staging relations of some models. Called inside a transaction.

        Args:
            models: their physical names.
        """
        built = [
            a.name
            for a in self._ours(Purpose.STAGING)
            if a.promotion == self._key and a.of in models
        ]
        self._database.drop(built)
        self._bookkeeping.forget_aside(built, Purpose.STAGING)

    def reserve_scratch(self, schemas: Sequence[str]) -> None:
        """Record scratch schemas before they are made."""
        with self._database.transaction():
            self._bookkeeping.put_aside(
                self._aside(RelationName(s), Purpose.SCRATCH, RelationName(s)) for s in schemas
            )

    def forget_scratch(self, schemas: Sequence[str]) -> None:
        """Forget scratch schemas that are gone."""
        with self._database.transaction():
            self._bookkeeping.forget_aside(schemas)

    def replaced_names(
        self, models: Iterable[RelationName], *, keep_former: bool = False
    ) -> Mapping[RelationName, RelationName]:
        """The name that each model's table gets when it is replaced.

        Args:
            models: their physical names.
            keep_former: whether tables that were replaced earlier keep their names.
        """
        taken = set(self._database.kinds())
        if not keep_former:
            taken -= set(self._former_replaced())
        return {model: aside(model, REPLACED, taken) for model in models}

    def drop_replaced(self) -> None:
        """Remove what earlier promotions kept aside: it is of no use for going back any more.

        What earlier steps of this promotion keep stays. Called inside a transaction.
        """
        former = self._former_replaced()
        self._database.drop(former)
        self._bookkeeping.forget_aside(former)

    def switched(
        self,
        switches: Sequence[Switch],
        *,
        keep_replaced: bool,
        digests: Mapping[RelationName, Digest] = MappingProxyType({}),
    ) -> None:
        """Record what is aside after a switch-over. Called inside its transaction.

        Args:
            switches: what was switched over.
            keep_replaced: whether tables that were replaced stay beside the live ones.
            digests: of the rendered models that were live, by physical name.
        """
        self._bookkeeping.forget_aside([s.staging for s in switches if s.staging is not None])
        kinds = self._database.kinds([switch.replaced for switch in switches])
        replaced = [switch for switch in switches if switch.replaced in kinds]
        if keep_replaced:
            self._bookkeeping.put_aside(
                replace(
                    self._aside(s.replaced, Purpose.REPLACED, s.name),
                    digest=digests.get(s.name, Digest("")),
                )
                for s in replaced
            )
        else:
            self._database.drop([switch.replaced for switch in replaced])

    def adopt_replaced(self, models: Iterable[RelationName]) -> None:
        """Record replaced tables that were kept aside before such tables were recorded.

        Called inside a transaction.

        Args:
            models: the physical names of all models that are live.
        """
        live = set(models)
        kinds = self._database.kinds([aside(model, REPLACED) for model in live])
        self._bookkeeping.put_aside(
            Aside(name=replaced, purpose=Purpose.REPLACED, of=model, promotion="")
            for model in sorted(live)
            if (replaced := aside(model, REPLACED)) in kinds and replaced not in live
        )

    def _clear_leftovers(
        self, recorded: Sequence[Aside], models: frozenset[RelationName] | None
    ) -> None:
        """Remove what was built, and tried in, by others that were given up.

        A run leaves alone what a promotion has built: that may go on.

        Args:
            recorded: all that is beside the live relations.
            models: the models of which alone it is known that nobody works on them; None for all.
        """
        others = [a for a in recorded if a.promotion != self._key or a.purpose is Purpose.SCRATCH]
        if is_run_key(self._key):
            others = [a for a in others if is_run_key(a.promotion)]
        if models is not None:
            others = [a for a in others if a.of in models]
        self._remove(others)

    def _remove(self, relations: Iterable[Aside]) -> None:
        by_purpose: dict[Purpose, list[RelationName]] = {purpose: [] for purpose in Purpose}
        for each in relations:
            by_purpose[each.purpose].append(each.name)
        built, scratch = by_purpose[Purpose.STAGING], by_purpose[Purpose.SCRATCH]
        self._database.drop(built)
        self._database.discard(scratch)
        self._bookkeeping.forget_aside([*built, *by_purpose[Purpose.RESERVED], *scratch])

    def _former_replaced(self) -> list[RelationName]:
        taking_back = set(self._taking_back.values())
        return [
            a.name
            for a in self._ours(Purpose.REPLACED)
            if a.promotion != self._key and a.name not in taking_back
        ]

    def _ours(self, *purposes: Purpose) -> list[Aside]:
        recorded = self._bookkeeping.aside(self._project)
        return [each for each in recorded if each.purpose in purposes]

    def _aside(self, name: RelationName, purpose: Purpose, of: RelationName) -> Aside:
        return Aside(name=name, purpose=purpose, of=of, promotion=self._key)

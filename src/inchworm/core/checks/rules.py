"""The registry of rules. A rule's id says in words what it is about."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from msgspec import Struct

from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.parameters.literals import Suspect

_registry: dict[str, Rule] = {}
REGISTRY: Mapping[str, Rule] = MappingProxyType(_registry)
"""All rules by id."""


class Rule(Struct, frozen=True, kw_only=True):
    """A check rule: what it finds, why that matters, and what to do about it."""

    id: str
    severity: Severity
    what: str
    why: str
    remedy: str

    def finding(
        self,
        message: str,
        *,
        part: object = None,
        file: str | None = None,
        line: int | None = None,
        remedy: str | None = None,
        severity: Severity | None = None,
        cause: str = "",
    ) -> Finding:
        """A finding of this rule; ``remedy`` and ``severity`` where this case knows better."""
        return Finding(
            rule=self.id,
            severity=severity or self.severity,
            part=None if part is None else str(part),
            file=file,
            line=line,
            message=message,
            remedy=remedy or self.remedy,
            cause=cause,
        )


def _rule(id: str, severity: Severity, what: str, why: str, remedy: str) -> Rule:
    rule = Rule(id=id, severity=severity, what=what, why=why, remedy=remedy)
    _registry[id] = rule
    return rule


_E, _W, _N = Severity.ERROR, Severity.WARNING, Severity.NOTE

UNREADABLE = _rule(
    "part/unreadable",
    _E,
    "A file cannot be read as what it should be.",
    "Nothing can be checked or promoted that cannot be read.",
    "Mend the text at this line.",
)
MALFORMED = _rule(
    "part/malformed",
    _E,
    "A setting is missing, unknown or has the wrong form.",
    "A setting that is not understood would silently do nothing.",
    "Correct the setting.",
)
TWO_WITH_ONE_NAME = _rule(
    "part/two-with-one-name",
    _E,
    "Two parts have one name, or provide one table.",
    "Whichever came last would silently win.",
    "Rename or remove one of the two.",
)
STRAY_FILE = _rule(
    "part/stray-file",
    _W,
    "A file in a folder of parts belongs to no part.",
    "It looks as if it were promoted, but it is not.",
    "Move it elsewhere, or give it the name that its folder asks for.",
)
UNKNOWN_PART = _rule(
    "part/unknown",
    _E,
    "A part is named that does not exist.",
    "What names it cannot work in any environment.",
    "Correct the name, or add the part.",
)
SQL_UNREADABLE = _rule(
    "sql/unreadable",
    _E,
    "SQL does not parse.",
    "The database would refuse it, and its lineage cannot be known.",
    "Correct the SQL near this line.",
)
NOT_A_QUERY = _rule(
    "sql/not-a-query",
    _E,
    "A model or check is another statement than a SELECT.",
    "Its table or view is made by the promotion, from what the SELECT gives.",
    'Write the SELECT alone: store = "table" in the settings makes it a table. What changes a '
    "schema is a migration, under schemas/.",
)
SQL_WRITES = _rule(
    "sql/writes",
    _E,
    "A model, a check or a query of a flow or notebook writes somewhere.",
    "It runs at every build and every look, also in production, and what it writes or deletes is "
    "in no lineage and in no draft.",
    "Only read there. Put what changes rows into a migration.",
)
PARAMETER_AS_NAME = _rule(
    "sql/parameter-as-name",
    _E,
    "A parameter stands where the name of a table or column must stand.",
    "Parameters are values: a name that is only known later has no lineage and no checks.",
    "Write the name. Tables that differ between environments are told apart by schema_pattern.",
)
PARAMETER_IN_TEXT = _rule(
    "sql/parameter-in-text",
    _E,
    "A parameter stands inside a quoted text.",
    "There it is no parameter: the database gets the letters of its name.",
    "Take it out of the quotes: :name alone, or 'text' || :name where it is a piece of a text.",
)
SQL_NOT_UNDERSTOOD = _rule(
    "sql/not-understood",
    _N,
    "A construct is not followed column by column.",
    "It counts as depending on everything that it reads: safe, but less precise.",
    "Nothing has to be done.",
)
COMPARED_WITH_NULL = _rule(
    "sql/compared-with-null",
    _W,
    "A query compares with NULL by = or <>.",
    "That is neither true nor false, so no row fits.",
    "Write IS NULL or IS NOT NULL.",
)
TEXT_AND_NUMBER = _rule(
    "sql/text-and-number",
    _W,
    "A query compares a text with a number.",
    "Databases convert one of them, each in its own way: '10' < '9', and '1.0' is not '1'.",
    "Cast one side to the type that is meant.",
)
ARITHMETIC_ON_TEXT = _rule(
    "sql/arithmetic-on-text",
    _W,
    "A query calculates with a text.",
    "It fails on the first text that is no number, or takes it for 0.",
    "Cast it to a number, and say what happens to texts that are none.",
)
ZONES_MIXED = _rule(
    "sql/zones-mixed",
    _W,
    "A query mixes moments that have a time zone with such that have none.",
    "The zone of the session decides, which differs between a desk and a server.",
    "Give the one without a zone its zone: AT TIME ZONE '...'.",
)
DIVIDES_BY_ZERO = _rule(
    "sql/divides-by-zero",
    _W,
    "A query divides by something that can be zero.",
    "One such row ends the whole query in this dialect.",
    "Write NULLIF(divisor, 0), or leave those rows out.",
)
NOT_IN_NULLABLE = _rule(
    "sql/not-in-nullable",
    _W,
    "NOT IN is asked of a column that can be NULL.",
    "One NULL among the values, and no row fits any more.",
    "Write NOT EXISTS, or leave NULL out: WHERE the column IS NOT NULL.",
)
NO_ORDER = _rule(
    "sql/no-order",
    _W,
    "A query takes some of several rows without an order that decides which.",
    "Each build may give other rows.",
    "Say the order: ORDER BY columns that together are unique.",
)
CHANGES_EACH_TIME = _rule(
    "sql/changes-each-time",
    _W,
    "Rows that are kept from build to build depend on the moment, on chance or on who built them.",
    "Building them again gives others, and nobody can tell which are right.",
    "Take the moment from the data, or from a parameter.",
)
NO_JOIN_CONDITION = _rule(
    "sql/no-join-condition",
    _W,
    "A comma joins tables without a condition.",
    "Every row meets every other one.",
    "Write JOIN ... ON, or CROSS JOIN if that is meant.",
)
LESS_THAN_A_KEY = _rule(
    "sql/less-than-a-key",
    _W,
    "A join is on less than a key of either side.",
    "A row meets several others, so sums and counts are too high.",
    "Join on a whole key of one of the two, or aggregate one of them first.",
)
STAR_GOES_OUT = _rule(
    "model/star-goes-out",
    _W,
    "A model that a consumer or flow reads shows whatever columns there are: SELECT *.",
    "A column that is added upstream goes out unasked; one that is taken away is missing there.",
    "List the columns.",
)
NOT_READ = _rule(
    "model/not-read",
    _N,
    "Nothing reads a model, though the project says who reads others.",
    "It is built each time for nobody, or a consumer is not declared.",
    "Declare its consumer, or remove it.",
)
DEEP_VIEWS = _rule(
    "model/deep-views",
    _W,
    "A view stands on more than twelve others, one upon the other.",
    "Whoever reads it has the database work out all of them each time.",
    'Give one in the middle store = "table".',
)
NO_KEY = _rule(
    "schema/no-key",
    _N,
    "A table has no key.",
    "Nothing keeps a row from being there twice, and nobody can name one of them.",
    "Give it a PRIMARY KEY, or columns that are NOT NULL and UNIQUE together.",
)
CHECK_CANNOT_HOLD = _rule(
    "model/check-cannot-hold",
    _E,
    "A check on a column cannot be right.",
    "It would fail at each promotion, or prove nothing.",
    "Correct it.",
)
NAME_TOO_LONG = _rule(
    "schema/name-too-long",
    _E,
    "A name is longer than the database of an environment takes.",
    "It would be cut off, so that two names could become one, and nothing finds it again.",
    "Choose a shorter name.",
)
FORM_UNKNOWN = _rule(
    "sql/form-unknown",
    _E,
    "A query uses a function or form that the database of an environment lacks.",
    "It works at the desk, and the promotion into that environment is refused.",
    "Write it in standard SQL, or in a form that the databases of all environments have.",
)
NEVER_COMES = _rule(
    "pipeline/never-comes",
    _E,
    "A schedule names a time that never comes.",
    "The pipeline would never run, and nobody would be told.",
    "Correct the day or the month.",
)
START_CIRCLE = _rule(
    "pipeline/circle",
    _E,
    "Pipelines start each other in a circle.",
    "Once one of them has run, they would never stop.",
    "Start one of them by the clock.",
)
READS_OUTSIDE = _rule(
    "sql/reads-outside",
    _E,
    "A query reads a file, another server, or a text that it runs as SQL, which is not declared.",
    "Nothing would tell where its rows come from, and a query could send or fetch whatever the "
    "server can reach.",
    'Declare the place in sources.toml, under [reads]: NAME = "/landing/levels/*.csv".',
)
UNKNOWN_CATALOGUE = _rule(
    "sql/unknown-catalogue",
    _E,
    "A query names a database that is not declared.",
    "Whether it is the environment's own or another one decides what is promoted where.",
    'List its name in sources.toml, under [catalogues]: own = ["..."], or others = ["..."].',
)
UNKNOWN_TABLE = _rule(
    "lineage/unknown-table",
    _E,
    "A table is read that no part provides.",
    "The query would fail, or read something that nobody manages.",
    "Correct the name, or declare the table in schemas/<schema>/tables.sql.",
)
UNKNOWN_COLUMN = _rule(
    "lineage/unknown-column",
    _E,
    "A column is read that its table does not have.",
    "The query would fail in the database, and everything that reads it after that.",
    "Correct the name, or add the column to the table.",
)
NOT_CLEARED = _rule(
    "lineage/not-cleared",
    _E,
    "Data of a class reaches a flow or consumer that is not cleared for it.",
    "Personal or confidential values would leave the house.",
    'Leave the column out, end the class in a model with declassified = "reason", or clear the '
    "reader with cleared = [...].",
)
COLUMN_GONE = _rule(
    "lineage/column-gone",
    _E,
    "A column that is read, also from outside, is not there.",
    "Its readers would fail after the promotion, some of them outside the project.",
    "Keep the column until its readers are changed, or change them in the same bundle.",
)
TYPE_CHANGED = _rule(
    "lineage/type-changed",
    _W,
    "A column that is read outside would have another type than before.",
    "Its readers may refuse it, or read it wrongly.",
    "Tell the readers, or keep the type and add a column with the new one.",
)
NO_LONGER_REQUIRED = _rule(
    "lineage/no-longer-required",
    _W,
    "A column that is read outside was required, and would not be any more.",
    "Its readers may not expect that it is empty.",
    "Keep required = true, or tell the readers.",
)
KEY_GONE = _rule(
    "lineage/key-gone",
    _W,
    "A table that is read outside had a key, and would not have it any more.",
    "Its readers may count or join rows twice.",
    "Keep the key, or tell the readers.",
)
OUTSIDE_DIFFERS = _rule(
    "schema/outside-differs",
    _E,
    "A table that is managed outside is not in this environment as it is declared.",
    "What reads it would fail here.",
    "Have the table mended there, or declare what is really there in tables.sql.",
)
DOES_NOT_BIND = _rule(
    "database/does-not-bind",
    _E,
    "The database refuses a query or a migration.",
    "The promotion would fail halfway; found before its first step, nothing is changed.",
    "Correct the SQL, or have the database changed that it does not fit.",
)
AMBIGUOUS_COLUMN = _rule(
    "lineage/ambiguous-column",
    _E,
    "A column name fits more than one of the tables that are read.",
    "Databases refuse it.",
    "Put the table's name or alias before it.",
)
CYCLE = _rule(
    "lineage/cycle",
    _E,
    "Parts read each other in a circle.",
    "There is no order in which they could be built.",
    "Break the circle at one of its parts.",
)
SCHEMA_NOT_FOLLOWED = _rule(
    "schema/not-followed",
    _N,
    "A statement of a script is not followed.",
    "What it changes is not known to lineage.",
    "Nothing has to be done if it changes no table's structure.",
)
MIGRATION_NUMBER = _rule(
    "schema/migration-number",
    _E,
    "Migrations have a number twice, or none.",
    "Their order would not be certain.",
    "Give every migration its own number: NNNN_words.sql.",
)
MIGRATION_GAP = _rule(
    "schema/migration-gap",
    _W,
    "A number is missing between two migrations.",
    "One that is added there later would run after those behind it, where they ran already.",
    "Number migrations one after another.",
)
MIGRATION_EDITED = _rule(
    "schema/migration-edited",
    _E,
    "A migration was edited after it ran.",
    "Databases that ran it have another structure than those that will.",
    "Put the text back that ran (-), and write what has to change as a new migration: it then runs "
    "everywhere.",
)
SCHEMA_NAME_LEFT = _rule(
    "schema/name-left",
    _E,
    "A statement of a script cannot get the names that schemas have in this environment.",
    "It would reach the schema of that very name, which belongs to somebody else here.",
    "Write the table's name outside of texts and function bodies, or give this environment a "
    "database of its own, where schemas keep their names.",
)
NOT_A_DEFINITION = _rule(
    "schema/not-a-definition",
    _E,
    "A wanted structure has a statement that does something.",
    "tables.sql says what there should be; how it comes about is worked out for each database.",
    "Write only CREATE and COMMENT statements there; what does something belongs into before/ or "
    "after/.",
)
RENAME_UNKNOWN = _rule(
    "schema/rename-unknown",
    _W,
    "A rename is declared to a name that the wanted structure does not have.",
    "It would never apply, and what it was meant for would be dropped and added.",
    "Give the new name as tables.sql has it, or take the rename away.",
)
NOT_FOLLOWED_SCRIPT = _rule(
    "schema/not-followed",
    _W,
    "A script has a statement whose effect is not known before it runs.",
    "It may take rows away, and nobody counts them.",
    "Check what it does to existing rows.",
)
LOSES_DATA = _rule(
    "schema/loses-data",
    _E,
    "A change of structure, a migration, or the script that takes one back loses rows or values.",
    "They are gone for good: no rollback brings them back.",
    "If that is meant, list it under may_lose in [databases.main] of the environment file.",
)
DATED_VIEW = _rule(
    "model/view-of-a-day",
    _W,
    "A view uses a value that moves with the day, and no pipeline renews it.",
    "It keeps the day on which it was promoted: whoever reads it tomorrow reads yesterday's.",
    "Build it, or something that reads it, in a pipeline with a daily schedule; or write "
    "CURRENT_DATE.",
)
ROWS_OF_MIGRATIONS = _rule(
    "schema/rows-of-migrations",
    _W,
    "A schema had its rows from migrations, and is managed by its wanted structure now.",
    "The rows stay where the migrations ran; a new environment has the tables, and not the rows.",
    "Write them into a script under after/ in the schema's folder, so that it can run again: "
    "INSERT ... WHERE NOT EXISTS.",
)
KEEPS_OLD_ROWS = _rule(
    "promotion/keeps-old-rows",
    _W,
    "A migration writes rows that a model has taken in before, and the model keeps its own.",
    "The model reads rows that are new by its column since; older ones stay as they were.",
    'To build it anew, write on_change = "rebuild" in its settings, for this release at least.',
)
TAKEN_BACK_BEFORE = _rule(
    "promotion/taken-back-before",
    _W,
    "A bundle comes again into an environment in which it was taken back.",
    "What was wrong with it is still in it.",
    "Look why it was taken back: inchworm history --to ENV.",
)
OLDER_DATABASE = _rule(
    "promotion/older-database",
    _W,
    "The record has a promotion of which the environment's database knows nothing.",
    "The database was restored from an older backup, or is another one: what came since is gone.",
    "If that is meant, promote what should run there; else restore a later backup.",
)
NAME_TAKEN = _rule(
    "promotion/name-taken",
    _E,
    "A table or view that no promotion made has the name of a model that is new here.",
    "The model would get its place, and the next promotion would remove its rows for good.",
    "Rename the table or the model; or remove the model and adopt the table (inchworm adopt); or "
    "replace the table with --overwrite.",
)
LOSES_ROWS = _rule(
    "promotion/loses-rows",
    _E,
    "A model is removed that keeps rows which cannot be built again.",
    "They are gone with the next promotion after this one: no model gives them anew.",
    'If it has another name now, write moved_from = "its former name" in its settings; if the rows '
    "may go, list it under may_lose in [databases.main] of the environment file.",
)
ROWS_IN_THE_WAY = _rule(
    "schema/rows-in-the-way",
    _E,
    "A change of structure meets rows that do not fit it.",
    "The database would refuse it in the middle of the promotion.",
    "Give the column a default, or mend the rows first.",
)
WITHOUT_CONDITION = _rule(
    "schema/without-condition",
    _W,
    "A migration changes or removes all rows of a table.",
    "What was in them is gone in every environment that it runs in.",
    "Add a WHERE that says which rows are meant; if all are, waive it and say why.",
)
REQUIRED_WITHOUT_DEFAULT = _rule(
    "schema/required-without-default",
    _E,
    "A migration adds a required column without a default.",
    "It fails in every environment where the table has rows.",
    "Give it a default, or add it without NOT NULL, fill it, and make it required then.",
)
BLOCKS_OTHERS = _rule(
    "schema/blocks-others",
    _W,
    "A migration keeps others from a table for as long as it takes to read or write all of it.",
    "On a big table that is minutes in which everything else waits.",
    "Make the index concurrently; for a type, add a column, fill it in parts, and switch over.",
)
NEEDS_NO_TRANSACTION = _rule(
    "schema/needs-no-transaction",
    _E,
    "A migration has a statement that cannot run in a transaction.",
    "The database would refuse it in the middle of the promotion.",
    "Write it as the only statement of a migration whose settings say transaction = false.",
)
NOT_RESTARTABLE = _rule(
    "schema/not-restartable",
    _E,
    "A migration outside a transaction could stop half done.",
    "After a crash nobody knows what took effect, and running it again fails.",
    "Write one statement per such migration, with IF NOT EXISTS or IF EXISTS.",
)
UNDO_DIFFERS = _rule(
    "schema/undo-differs",
    _E,
    "A migration and its undo script do not lead back to the structure before.",
    "Who relies on it at night would get a third structure.",
    "Mend the undo script; it was tried on an empty copy.",
)
REPLAY_DIFFERS = _rule(
    "schema/replay-differs",
    _E,
    "The migrations do not run one after another, or lead to another structure than was worked out "
    "from their text.",
    "A new environment could not be made, and lineage would be about columns that are not there.",
    "Mend the migration; they were run on an empty database in memory.",
)
LOOKS_LIKE_RENAME = _rule(
    "schema/looks-like-rename",
    _W,
    "A migration drops a column and adds one of the same type.",
    "If a new name was meant, the values are lost.",
    "Write ALTER TABLE ... RENAME COLUMN; if the column is another one, waive it and say why.",
)
BREAKS_UNTIL_SWITCH = _rule(
    "promotion/breaks-until-switch",
    _W,
    "A migration takes away what live models read until they are switched over.",
    "In between they fail, and so does whatever reads them.",
    'Let it run afterwards, with when = "after" in its settings, or split it: add now, remove in '
    "the next version.",
)
BASELINE_DIFFERS = _rule(
    "schema/baseline-differs",
    _E,
    "A schema has tables, but not those that the baseline would make.",
    "Running the baseline would fail, and assuming it would be a lie.",
    "Make the baseline describe what is there, or empty the schema.",
)
COLUMN_NOT_SHOWN = _rule(
    "model/column-not-shown",
    _E,
    "A setting is about a column that the model does not show.",
    "Its description or check would never apply.",
    "Correct the column's name in the settings.",
)
TWO_COLUMNS = _rule(
    "model/two-columns-with-one-name",
    _E,
    "A model shows two columns of one name.",
    "A table cannot have both, and readers cannot tell them apart.",
    "Give one of them another name with AS.",
)
PIPELINE_ORDER = _rule(
    "pipeline/order",
    _E,
    "A pipeline works on a part before the part that it reads.",
    "Every run would use the data of the run before.",
    "Put the step after the one that builds what it reads.",
)
SCHEDULE_ORDER = _rule(
    "pipeline/schedule-order",
    _W,
    "A pipeline starts before the one that builds what it reads, on the same day.",
    "Every run uses the data of the day before.",
    "Start it later, or build what it reads in the same pipeline.",
)
PIPELINE_STEP = _rule(
    "pipeline/unknown-step",
    _E,
    "A step comes after a step that does not exist, or after itself.",
    "The order of the steps is not certain.",
    "Correct the name under after = [...].",
)
SCHEDULE_INVALID = _rule(
    "pipeline/schedule",
    _E,
    "A schedule is no cron expression, or its time zone does not exist.",
    "It would never start, or at the wrong hour.",
    "Write five fields (minute hour day month weekday) and a time zone such as Europe/Dublin.",
)
NOTEBOOK_CODE = _rule(
    "notebook/code",
    _E,
    "A notebook's code or SQL cannot be read.",
    "It would fail when it runs.",
    "Correct the cell.",
)
NOTEBOOK_MISSING = _rule(
    "notebook/missing-import",
    _E,
    "A notebook imports from a library of the project what that does not have.",
    "The notebook would fail at its first cells.",
    "Correct the name, or add the function to the library.",
)
LIBRARY_MISSING_PACKAGE = _rule(
    "library/missing-package",
    _E,
    "A library needs a package that is not installed where notebooks run.",
    "Every notebook that imports the library would fail.",
    "Have it installed there, or correct the library's pyproject.toml.",
)
MODULE_MISSING = _rule(
    "notebook/missing-module",
    _E,
    "A notebook or library imports a module that is not installed where notebooks run.",
    "It would fail in its first run.",
    "Have its package installed there; or import it inside try, with another way where it fails.",
)
NOTEBOOK_NOT_FOLLOWED = _rule(
    "notebook/not-followed",
    _N,
    "A query or table name in a notebook is not constant.",
    "What it reads is not known before it runs.",
    "Write the SQL or the name as a literal.",
)
API_INVALID = _rule(
    "flow/api",
    _E,
    "An OpenAPI document is invalid, or lacks the operation.",
    "The gateway would refuse the flow.",
    "Correct the document or the operation's name.",
)
OTHER_PLACE = _rule(
    "flow/other-place",
    _E,
    "A flow names a connection, or a schedule a flow, that leads to another kind of place.",
    "Nothing could be moved: a mail cannot go to a folder, and no file arrives at an API.",
    "Name one that leads to such a place, or correct its kind.",
)
FIELD_UNKNOWN = _rule(
    "flow/field",
    _E,
    "A field map does not fit the API's fields or their types.",
    "The receiver would refuse every row.",
    "Correct the field map under [fields].",
)
API_VERSION_RETIRED = _rule(
    "flow/api-version-retired",
    _W,
    "A flow does not answer to a version of its API any more.",
    "Whoever still sends by it gets 410, and has to be told.",
    "Tell them, or answer to more versions: api_versions under [gateway] of the environment.",
)
API_VERSION_BREAKS = _rule(
    "flow/api-version-breaks",
    _E,
    "A former version of a flow's API writes what is not there any more.",
    "Whoever sends by it would be refused, although the version is still answered.",
    "Keep the column until the version is retired, or answer to fewer: api_versions under "
    "[gateway] of the environment.",
)
NO_ABOUT = _rule(
    "documentation/no-about",
    _W,
    "A part does not say what it is about, though the project's policies ask for it.",
    "Whoever meets it in a year has to guess.",
    'Add about = "..." to its settings.',
)
NO_OWNER = _rule(
    "documentation/no-owner",
    _W,
    "A part has no owner, though the project's policies ask for one.",
    "Nobody is asked before it changes, and nobody is told when it fails.",
    'Add owner = "..." to its settings.',
)
NO_COLUMN_ABOUT = _rule(
    "documentation/no-column-about",
    _W,
    "A column is not described, though the project's policies ask for it.",
    "Its readers have to guess what it means, and in which unit.",
    'Add [columns.NAME] with about = "..." to the settings.',
)
UNDECLARED_PARAMETER = _rule(
    "parameter/undeclared",
    _E,
    "A parameter is used that is not declared.",
    "It has no value in any environment.",
    "Declare it in parameters.toml with a value per environment.",
)
UNUSED_PARAMETER = _rule(
    "parameter/unused",
    _W,
    "A parameter is declared that nothing uses.",
    "People would change it and wonder why nothing happens.",
    "Remove it, or use it.",
)
MISSING_VALUE = _rule(
    "parameter/missing-value",
    _E,
    "A parameter has no value for an environment.",
    "There are no silent defaults: another environment's value would be worse than none.",
    "Add a value for the environment.",
)
MISTYPED_VALUE = _rule(
    "parameter/mistyped-value",
    _E,
    "A value does not fit its parameter's type.",
    "It would fail, or mean something else, in one environment only.",
    "Write a value of the declared type.",
)
EARLY_VALUE = _rule(
    "parameter/early-value",
    _W,
    "A parameter has a value for an environment that does not exist.",
    "The value is not used until the environment exists.",
    "Add the environment's file, or remove the value.",
)
MALFORMED_PARAMETER = _rule(
    "parameter/malformed",
    _E,
    "A row of parameters.toml is not understood.",
    "Its values would never arrive.",
    "Correct the row.",
)
MUST_DIFFER = _rule(
    "parameter/must-differ",
    _E,
    "Two environments share a value that must differ.",
    "What happens in one environment would reach the other.",
    "Give each environment a value of its own.",
)
SECRET_IN_TEXT = _rule(
    "parameter/secret-in-text",
    _E,
    "A secret is used where its value would become text.",
    "It would stand readable in a query or a document.",
    "Use it under [credentials] of a connection, as password or token of an environment, "
    "or with env.value in a notebook.",
)
VALUE_WRITTEN_OUT = _rule(
    "parameter/value-written-out",
    _E,
    "A value that differs between environments is written out in a part.",
    "Every environment would use the value of one.",
    "Use the parameter instead.",
)
WRONG_TYPE_HERE = _rule(
    "parameter/wrong-type-here",
    _E,
    "A parameter is used where a value of another type is expected.",
    "The setting would be refused, or mean something else.",
    "Use a parameter of the type that is expected, or correct its type.",
)
SECRET_WRITTEN_OUT = _rule(
    "parameter/secret-written-out",
    _E,
    "Something that looks like a key, a token or a password is written out.",
    "Whoever can read the repository, the bundle or the platform could use it.",
    "Take it out, have it replaced where it is valid, and refer to it with a secret parameter. If "
    "it is none: inchworm waive, with --only and the number in brackets.",
)
SHARED_TARGET = _rule(
    "environment/shared-target",
    _E,
    "Two environments reach the same database, service or address.",
    "What happens in one environment would happen in the other.",
    "Give each environment its own, or declare that it is shared.",
)
SHARED_LOGIN = _rule(
    "environment/shared-login",
    _W,
    "A protected environment is reached with the login or secret of one that is not.",
    "Whoever may work in development could change production, and nobody could tell who it was.",
    "Give the protected environment a user and a secret of its own.",
)
WAIVER_EXPIRED = _rule(
    "waiver/expired",
    _E,
    "A waiver has come to its end.",
    "What was accepted for a while counts again.",
    "Mend what it waived, or have it waived again with a new reason and end.",
)
WAIVER_UNUSED = _rule(
    "waiver/unused",
    _W,
    "A waiver waives nothing.",
    "It would hide the finding if it came back.",
    "Remove it from waivers.toml.",
)
SCHEDULE_UNKNOWN = _rule(
    "environment/unknown-schedule",
    _E,
    "An environment declares a state for a schedule that no pipeline has.",
    "The state that somebody relies on would never apply.",
    "Correct the name under [schedules].",
)
DRIFTED = _rule(
    "promotion/drifted",
    _E,
    "What a promotion would touch was changed in the environment by hand.",
    "The change would be lost without anybody having looked at it, or get in the way.",
    "Look at it: inchworm drift. Take it into the source, or promote with --overwrite.",
)
CANNOT_CARRY_ALONG = _rule(
    "promotion/cannot-carry-along",
    _E,
    "Something of somebody else hangs on a table that a promotion replaces or ends.",
    "It would stay with the replaced table, or go with it: a foreign key that points at old rows, "
    "a publication that publishes nothing new, a view that reads a table which goes away.",
    "Have its owner take it away, promote, and put it on again.",
)
CARRIES_ALONG = _rule(
    "promotion/carries-along",
    _N,
    "Something hangs on a table or view that a promotion replaces, and goes along with it.",
    "It is made again on the successor as it was; its owner may want to know.",
    "Nothing, if that is expected.",
)
MISSING_RIGHT = _rule(
    "promotion/missing-right",
    _E,
    "A right is missing that the promotion needs.",
    "The database would refuse a step in the middle; found before, nothing is changed.",
    "Have its owner grant it.",
)
SUPERUSER = _rule(
    "environment/superuser",
    _W,
    "Promotions run as a superuser.",
    "A superuser is refused nothing: SQL of a bundle can reach files, other databases and "
    "everybody's tables, and row security does not count.",
    "Use a role that owns the project's schemas, and nothing else.",
)
SWITCHED_BY_HAND = _rule(
    "promotion/switched-by-hand",
    _W,
    "Somebody stopped a flow or switched a schedule off in the environment.",
    "It may have been in an incident that is not over; a promotion does not start it again.",
    "If it is to run again, promote with --resume and its name.",
)
GOES_BACK = _rule(
    "promotion/goes-back",
    _E,
    "A bundle goes back behind the one that runs in the environment.",
    "What the later one brought would go, often because a checkout is old.",
    "Update your checkout and pack again; if going back is meant, promote with --back.",
)
OTHER_CONTENT = _rule(
    "bundle/other-content",
    _E,
    "A bundle's version went into an environment with other content.",
    "One version must be one thing: what passed test would not be what goes on.",
    "Raise the version in inchworm.toml, tag it, and pack again.",
)
ROUTE_NOT_ASKED = _rule(
    "promotion/route-not-asked",
    _W,
    "An environment that the bundle has to pass through could not be asked whether it did.",
    "Only this ledger says so, and a ledger can be wrong about a database.",
    "Promote from where that environment can be reached, or go on if the ledger is enough.",
)
RULES_CHANGED = _rule(
    "promotion/rules-changed",
    _W,
    "An environment's file or people.toml demands other things than at the last promotion.",
    "Whoever may change the rules can let their own change in.",
    "Look at who changed the rules, and why, before the draft is approved.",
)
RULES_UNCOMMITTED = _rule(
    "promotion/rules-uncommitted",
    _N,
    "An environment's file or people.toml is not as it is committed.",
    "Nobody has reviewed these rules, and nobody can look them up later.",
    'Commit them. Or name the branch whose rules count: [entry] rules_from = "main".',
)
REPLAY_OUTSIDE = _rule(
    "schema/replay-outside",
    _N,
    "A migration reaches a file, another server or an extension.",
    "Checking a project must reach nothing outside of it, so the migration is not tried.",
    "If that is meant, nothing: the draft of a promotion tries it in the environment.",
)
CACHE_TRACKED = _rule(
    "project/cache-tracked",
    _W,
    "The folder .inchworm, which is for this checkout alone, is in the repository.",
    "Whoever commits it gives others caches, a ledger and databases of their own.",
    "git rm -r --cached .inchworm, add .inchworm/ to .gitignore, and commit that.",
)
ROUTE_SKIPPED = _rule(
    "promotion/route-skipped",
    _W,
    "The bundle has not passed through an environment before this one.",
    "Only an exception lets it in: nobody has tried it there.",
    "Promote it there first, or let it in by exception: --exception --because TEXT.",
)
HELD_BEFORE = _rule(
    "promotion/held-before",
    _N,
    "A part was kept on hold in an environment that the bundle has to pass through.",
    "It was not tried there, so it stays as it is here, too.",
    "Lift the hold there and promote the bundle again, then promote it here.",
)
RAN_BUT_NOT_HERE = _rule(
    "schema/ran-but-not-in-bundle",
    _W,
    "Migrations ran in this environment that the bundle does not have.",
    "What they changed stays, and the bundle was not checked against it.",
    "Promote a bundle that has them, or write a migration that takes back what they changed.",
)
MIGRATION_STAYS = _rule(
    "schema/migration-stays",
    _W,
    "A rollback cannot take back a migration that ran since.",
    "The structure stays newer than the bundle that comes back; what the migration changed stays.",
    "Nothing, if what comes back can live with it; else write a migration that takes it back.",
)
NEWER_STRUCTURE = _rule(
    "promotion/newer-structure",
    _E,
    "A part that comes back reads what a later migration took away.",
    "It would fail, or show something else, as soon as it is live.",
    "Bring back what is missing with a new migration, and promote that.",
)
CLOCK_WRONG = _rule(
    "environment/clock-wrong",
    _W,
    "Clocks disagree: that of this machine, of the database, or of an earlier promotion.",
    "Nothing is ordered by them, but days in values and the times shown are wrong.",
    "Set the clock that is wrong.",
)
HELD = _rule(
    "promotion/left-alone",
    _N,
    "Something stays as it is in the environment.",
    "It is no longer in the bundle, but removing it could lose data.",
    "Remove it by hand when it is no longer needed.",
)


def suspect_finding(suspect: Suspect, file: str, part: object = None) -> Finding:
    """The finding about something that looks like a secret; it does not repeat it."""
    return SECRET_WRITTEN_OUT.finding(
        f"has what looks like {suspect.what} ({suspect.fingerprint})",
        part=part,
        file=file,
        line=suspect.line,
    )

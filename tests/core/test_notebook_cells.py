"""Cells changed where a notebook runs, taken into its file."""

from __future__ import annotations

import json
from typing import Any

import nbformat
from hypothesis import given
from hypothesis import strategies as st

from inchworm.kinds.notebook_cells import with_changed_cells
from inchworm.kinds.notebook_document import without_outputs

CELLS = st.lists(
    st.fixed_dictionaries(
        {
            "cell_type": st.sampled_from(["code", "markdown", "raw"]),
            "source": st.sampled_from(["", "a = 1", "a = 1\nb = 2\n", "é\r\nx", "print(a)"]),
        }
    ),
    max_size=6,
)


def file_of(cells: list[dict[str, Any]], minor: int) -> bytes:
    """A notebook's file, in which every code cell has been run."""
    document = nbformat.v4.new_notebook()
    for number, cell in enumerate(cells):
        made = getattr(nbformat.v4, f"new_{cell['cell_type']}_cell")(cell["source"])
        made.id = f"cell-{number}"
        if cell["cell_type"] == "code":
            made.outputs = [nbformat.v4.new_output("stream", text=f"output {number}")]
        if minor < 5:
            del made["id"]
        document.cells.append(made)
    document.nbformat_minor = minor
    return (json.dumps(document, indent=2) + "\n").encode()


@given(was=CELLS, now=CELLS, minor=st.sampled_from([4, 5]))
def test_the_file_gets_the_cells_that_are_there(
    was: list[dict[str, Any]], now: list[dict[str, Any]], minor: int
) -> None:
    content = with_changed_cells(file_of(was, minor), was, now)
    assert content is not None
    document = json.loads(content)
    nbformat.validate(nbformat.from_dict(document))
    assert without_outputs(document)["cells"] == now
    assert content.startswith(b'{\n  "'), "it is laid out as it was"
    assert content.endswith(b"}\n")
    if was == now:
        assert content == file_of(was, minor)
    for cell in document["cells"]:
        if cell.get("outputs"):
            (output,) = cell["outputs"]
            before = was[int(output["text"].removeprefix("output "))]
            assert (cell["cell_type"], "".join(cell["source"])) == (
                before["cell_type"],
                before["source"],
            )


def test_a_file_with_other_cells_is_left_alone() -> None:
    was = [{"cell_type": "code", "source": "a = 1"}]
    other = file_of([{"cell_type": "code", "source": "a = 2"}], 5)
    assert with_changed_cells(other, was, []) is None

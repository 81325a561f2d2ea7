"""One module per part kind: how its files are read, its facts, and how it is rendered.

A kind turns bytes into a definition (``read``), a definition and the known tables into facts
(``facts``), and a definition and one environment's values into what is put there (``render``). It
opens no file and reaches no target: files come in as bytes, and what is rendered goes out as plain
data.
"""

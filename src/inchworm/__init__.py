"""Inchworm promotes data work from development to production, with its lineage.

The packages, from the inside out; imports only ever point towards the top of this list:

``core``      values and rules: no files, clock, network or database
``kinds``     one module per part kind: reading, facts, rendering
``sim``       the simulated services that ship with the tool
``project``   a source tree and its git repository
``store``     bundles and the ledger
``targets``   databases, workspace, gateway, secrets
``engine``    drafting and carrying out promotions
``report``    machine-readable and drawn output
``demo``      the Riverwatch scenario
``cli``       commands and terminal rendering
"""

__version__ = "0.1.0"

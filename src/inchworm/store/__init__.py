"""What is kept: bundles and the ledger.

Storage only. What a bundle or a promotion means is decided in ``core``.
"""

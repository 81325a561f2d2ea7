"""The ledger: its entries, the chain that ties them, and what they amount to.

Here belongs whatever can be told from entries alone; where they are stored is none of it.
"""

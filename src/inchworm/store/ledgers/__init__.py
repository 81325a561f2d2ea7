"""Where ledgers are stored: one protocol, a module for each kind of place, and a registry."""

"""Entry: what an environment demands before a promotion may run there, and who said yes to it."""

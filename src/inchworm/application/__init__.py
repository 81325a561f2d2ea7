"""Use cases: one function for each thing that somebody does with a project.

Each takes a :class:`~inchworm.application.workplace.Workplace`, which has the clock, the user, the
folder and the environment variables, and returns values; progress goes to a reporter. Nothing here
prints, asks, or looks at the process. The command line, tests and services call the same functions.
"""

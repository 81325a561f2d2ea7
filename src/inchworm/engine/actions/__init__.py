"""What the steps of a promotion do: one module for each kind of action.

An action says what it will run, does it, undoes it, and says why it can be repeated after a crash.
Whatever depends on the phase of a step stands in its action and nowhere else.
"""

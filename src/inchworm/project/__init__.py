"""A source tree and its git repository.

Here files are found and read, and git is asked. What the files mean is decided in ``kinds`` and
``core``.
"""

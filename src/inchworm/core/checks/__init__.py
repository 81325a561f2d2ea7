"""The check rules: what each is about, why it matters, and how to mend what it finds.

``rules`` is the registry; every finding anywhere carries the id of one of them. The other modules
hold the rules that look across parts; what concerns a single file is found where that file is
read, in ``kinds``.
"""

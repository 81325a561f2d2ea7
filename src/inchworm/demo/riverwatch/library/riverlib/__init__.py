"""Functions that the authority's notebooks share."""

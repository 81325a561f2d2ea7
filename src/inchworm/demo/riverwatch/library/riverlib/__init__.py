"""What the authority's notebooks share."""

"""The lattice: a search over places and headings."""

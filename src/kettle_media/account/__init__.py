"""The account of a take: which captures came, by the devices' own word, and what became of each.

Nothing here is shared with what records, joins or repairs: a mistake there must show here.
"""

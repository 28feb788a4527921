"""Kinds of moves, one room each: all that is known of a kind stands in its module, and nowhere else.

A room is a module with a KIND; `registry.py` finds it. `describe.py` has the vocabulary of parameters,
`picture.py` what a picture is made of, `starting.py` what starting points share, `checking.py` what
checks share.
"""

"""Documents are stored in their third form from here on; a Pondel that reads only the second stays out.

Older revisions keep their form and are brought up when they are read.
"""


def up(migrator, db):
    """Nothing but the number changes."""

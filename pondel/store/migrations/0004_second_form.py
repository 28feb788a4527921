"""Documents are stored in their second form from here on; a Pondel that reads only the first stays out.

Older revisions keep their form and are brought up when they are read.
"""


def up(migrator, db):
    pass

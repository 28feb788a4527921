"""Documents are stored in their second form from here on; a Pondel that reads only the first stays out.

Older revisions keep their form and are brought up when they are read. An arriving file may replace the
recording of a part.
"""

from peewee import TextField


def up(migrator, db):
    migrator.migrate(migrator.add_column("arrival", "replaces", TextField(default="")))

"""The name that a file's part is to have, told by the files it came with."""

from peewee import TextField


def up(migrator, db):
    migrator.migrate(migrator.add_column("arrival", "title", TextField(default="")))

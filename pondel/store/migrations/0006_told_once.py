"""What is to be told once of a session, when it is next opened."""

from peewee import TextField


def up(migrator, db):
    migrator.migrate(migrator.add_column("session", "to_tell", TextField(default="")))

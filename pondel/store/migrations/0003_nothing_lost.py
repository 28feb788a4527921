"""Parents found by index, arrivals told from edits, sessions set aside, logins, sealed recordings."""

from peewee import (
    BigIntegerField,
    DateTimeField,
    IntegerField,
    Model,
    SqliteDatabase,
    TextField,
)


def up(migrator, db: SqliteDatabase):
    class Login(Model):
        token = TextField(primary_key=True)
        password = TextField()
        address = TextField(index=True)
        created = DateTimeField()

    class Seal(Model):
        file = TextField(primary_key=True)
        bytes = BigIntegerField()
        mtime_ns = BigIntegerField()

    for model in (Login, Seal):
        model.bind(db, bind_refs=False, bind_backrefs=False)
    db.create_tables([Login, Seal])
    migrator.migrate(
        migrator.add_column("revision", "arrival", IntegerField(default=0)),
        migrator.add_index("revision", ["parent"]),
        migrator.add_column("session", "removed", DateTimeField(null=True)),
    )

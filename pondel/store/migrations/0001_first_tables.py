"""Sessions, their revisions, arriving files, prints and measures."""

from peewee import (
    AutoField,
    DateTimeField,
    FloatField,
    ForeignKeyField,
    IntegerField,
    Model,
    TextField,
)


def up(migrator, db):
    class Session(Model):
        id = TextField(primary_key=True)
        name = TextField()
        created = DateTimeField()
        opened = DateTimeField()
        head = IntegerField()
        rate_known = IntegerField(default=0)

    class Revision(Model):
        id = AutoField()
        session = ForeignKeyField(Session, on_delete="CASCADE")
        parent = IntegerField(null=True)
        label = TextField()
        gesture = TextField(null=True)
        document = TextField()
        hash = TextField()
        created = DateTimeField()

    class Arrival(Model):
        id = TextField(primary_key=True)
        session = ForeignKeyField(Session, on_delete="CASCADE")
        name = TextField()
        state = TextField(index=True)
        progress = FloatField(default=0)
        message = TextField(default="")
        part = TextField(default="")
        created = DateTimeField()

    class Print(Model):
        id = TextField(primary_key=True)
        session = ForeignKeyField(Session, on_delete="CASCADE")
        revision = IntegerField()
        order = TextField()
        state = TextField(index=True)
        progress = FloatField(default=0)
        message = TextField(default="")
        created = DateTimeField()

    class Measure(Model):
        key = TextField(primary_key=True)
        body = TextField()
        created = DateTimeField()

    db.bind([Session, Revision, Arrival, Print, Measure], bind_refs=False, bind_backrefs=False)
    db.create_tables([Session, Revision, Arrival, Print, Measure])


def down(migrator, db):
    for table in ("print", "arrival", "revision", "measure", "session"):
        db.execute_sql(f"drop table {table}")

"""Variants: named heads of a session; the session knows which one is open."""

from peewee import CompositeKey, ForeignKeyField, IntegerField, Model, TextField


def up(migrator, db):
    class Session(Model):
        id = TextField(primary_key=True)

    class Variant(Model):
        session = ForeignKeyField(Session, on_delete="CASCADE")
        name = TextField()
        head = IntegerField()

        class Meta:
            primary_key = CompositeKey("session", "name")

    for model in (Session, Variant):
        model.bind(db, bind_refs=False, bind_backrefs=False)
    db.create_tables([Variant])
    migrator.migrate(migrator.add_column("session", "variant", TextField(default="A")))

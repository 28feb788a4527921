"""The shelf: spectra and recipes kept by name, for all sessions."""

from peewee import CompositeKey, DateTimeField, Model, TextField


def up(migrator, db):
    class Kept(Model):
        what = TextField()
        name = TextField()
        body = TextField()
        created = DateTimeField()

        class Meta:
            primary_key = CompositeKey("what", "name")

    Kept.bind(db, bind_refs=False, bind_backrefs=False)
    db.create_tables([Kept])

"""The ledger of a session: what was listened to, and which tests were taken blind."""

from peewee import CompositeKey, DateTimeField, ForeignKeyField, Model, TextField


def up(migrator, db):
    class Session(Model):
        id = TextField(primary_key=True)

    class Entry(Model):
        session = ForeignKeyField(Session, on_delete="CASCADE")
        what = TextField()
        name = TextField()
        body = TextField()
        created = DateTimeField()

        class Meta:
            primary_key = CompositeKey("session", "what", "name")

    for model in (Session, Entry):
        model.bind(db, bind_refs=False, bind_backrefs=False)
    db.create_tables([Entry])

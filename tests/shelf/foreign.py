"""A shelf that a stranger has made: usage: foreign.py SHELF WHAT

SHELF is a sound shelf with one image; it is made hostile in the way that WHAT names."""
import os
import sqlite3
import sys

shelf, what = sys.argv[1:]
db = sqlite3.connect(os.path.join(shelf, "index.db"))
# Control characters of 7 and 8 bits, in UTF-8 and bare, and such as turn or hide what is shown.
BAD = b"x\x1b[2J\x9b31m\xc2\x9b31m\xe2\x80\xae1.2\xe2\x80\x8b\x07\r\n\xff"


def every_text(value):
    for column in ("maker", "product", "profile", "codes", "component", "version", "released", "format", "origin", "added", "by",
                   "build_mark"):
        db.execute(f"UPDATE images SET {column} = CAST(? AS TEXT)", (value,))


if what == "digest-elsewhere":
    db.execute("UPDATE images SET digest = '../../victim'")
elif what == "loose-elsewhere":
    db.execute("INSERT INTO loose VALUES ('../victim')")
    db.execute("INSERT INTO loose VALUES ('../../victim')")
    db.execute("INSERT INTO loose VALUES ('" + "/" * 64 + "')")
elif what == "texts":
    every_text(BAD)
elif what == "origin":
    db.execute("UPDATE images SET origin = CAST(? AS TEXT)", (b"\xff\xfe.bin",))
elif what == "no-manifest":
    schema = db.execute("SELECT sql FROM sqlite_master WHERE name = 'manifests'").fetchone()[0]
    db.executescript("PRAGMA writable_schema = ON; UPDATE sqlite_master SET sql = replace(sql, ' NOT NULL', '') "
                     "WHERE name = 'manifests'; PRAGMA writable_schema = OFF;")
    db.commit()
    db.close()
    db = sqlite3.connect(os.path.join(shelf, "index.db"))
    db.execute("UPDATE manifests SET text = NULL, signature = NULL")
elif what in ("images", "coming", "lock", "index.db"):
    db.close()
    path = os.path.join(shelf, what)
    os.makedirs(os.path.join(shelf, "..", "outside"), exist_ok=True)
    os.rename(path, os.path.join(shelf, "..", "outside", what))
    os.symlink(os.path.join("..", "outside", what), path)
elif what == "image-link":
    digest = db.execute("SELECT digest FROM images").fetchone()[0]
    path = os.path.join(shelf, "images", digest[:2], digest)
    os.unlink(path)
    os.symlink("../../../victim", path)
elif what == "trusted":
    os.makedirs(os.path.join(shelf, "trusted"), exist_ok=True)
    with open(os.path.join(shelf, "..", "theirs.pub"), "rb") as source:
        with open(os.path.join(shelf, "trusted", "theirs.pub"), "wb") as key:
            key.write(source.read())
else:
    sys.exit(f"no way '{what}'")
if what not in ("images", "coming", "lock", "index.db"):
    db.commit()
    db.close()

"""Validates documents against a JSON Schema (draft 2020-12), and insists that every kind of document was there and that
the schema refuses what is wrong: validate.py SCHEMA DOCUMENT..."""
import copy
import json
import sys

import jsonschema

with open(sys.argv[1], encoding="utf-8") as file:
    schema = json.load(file)
jsonschema.Draft202012Validator.check_schema(schema)
validator = jsonschema.Draft202012Validator(schema)

seen = set()
wrong = 0
refused = 0
for path in sys.argv[2:]:
    with open(path, encoding="utf-8") as file:
        document = json.load(file)
    seen.add(document["einbau"])
    for error in validator.iter_errors(document):
        worst = jsonschema.exceptions.best_match([error])
        print(f"{document['einbau']}: {'/'.join(map(str, worst.absolute_path))}: {worst.message[:300]}")
        wrong += 1
    # Without one of its keys, or with another type in it, it is none any more.
    for key in document:
        damaged = copy.deepcopy(document)
        del damaged[key]
        refused += not validator.is_valid(damaged)
        damaged[key] = {"of": "another type"}
        if validator.is_valid(damaged):
            print(f"{document['einbau']}: any type is taken for {key}")
            wrong += 1

named = [branch["if"]["properties"]["einbau"] for branch in schema["allOf"]]
kinds = {kind for name in named for kind in name.get("enum", [name.get("const")])}
for kind in sorted(kinds - seen):
    print(f"no document of the kind {kind}")
for kind in sorted(seen - kinds):
    print(f"no schema for {kind}")
if wrong or kinds != seen or not refused:
    sys.exit(1)
print(f"{len(sys.argv) - 2} documents of {len(kinds)} kinds are as their schemas say")

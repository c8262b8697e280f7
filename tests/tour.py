"""Verifies that the files and the symbols that docs/tour.md names exist: tour.py SOURCE"""
import pathlib
import re
import sys

source = pathlib.Path(sys.argv[1])
text = (source / "docs/tour.md").read_text(encoding="utf-8")
code = "\n".join(
    path.read_text(encoding="utf-8", errors="replace")
    for folder in ("include", "src", "host", "sim", "tools", "tests")
    for path in (source / folder).rglob("*.[ch]")
)
words = set(re.findall(r"\b\w+\b", code))
missing = []
files = symbols = 0
for name in re.findall(r"`([^`]+)`", text):
    if "/" in name:
        files += 1
        if not (source / name).exists():
            missing.append(name)
    elif not name.startswith(("make ", "--")):
        symbols += 1
        if name.removeprefix("struct ") not in words:
            missing.append(name)
if missing or files < 20 or symbols < 20:
    sys.exit(f"docs/tour.md names what does not exist: {missing}")
print(f"{files} files and {symbols} symbols of docs/tour.md exist")

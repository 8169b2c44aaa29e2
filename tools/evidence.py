"""Writes the table of what a snapshot takes into docs/evidence.md, from the tables that the code reads."""

from pathlib import Path

from rupex.snapshot.plan import evidence_rows

PAGE = Path(__file__).parent.parent / "docs/evidence.md"
BEGIN, END = "<!-- made by tools/evidence.py -->\n", "<!-- end -->\n"


def table() -> str:
    """The rows as Markdown."""
    rows = "".join(f"| {row.kind} | `{row.pattern}` | {row.purpose} |\n" for row in evidence_rows())
    return f"{BEGIN}\n| for | taken | what it is |\n| --- | --- | --- |\n{rows}\n{END}"


def main() -> None:
    text = PAGE.read_text()
    before, _, rest = text.partition(BEGIN)
    PAGE.write_text(before + table() + rest.partition(END)[2])


if __name__ == "__main__":
    main()

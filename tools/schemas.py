"""Writes the JSON Schemas of all documents, generated from their types, into the package."""

from pathlib import Path

from rupex.reports.formats.json_format import DOCUMENTS, schema_of

FOLDER = Path(__file__).parent.parent / "src/rupex/documents/schemas"


def main() -> None:
    for name in DOCUMENTS:
        (FOLDER / f"{name}.schema.json").write_text(schema_of(name))


if __name__ == "__main__":
    main()

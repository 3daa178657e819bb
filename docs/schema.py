"""Writes the JSON Schema of a saved fit beside the guide."""

from __future__ import annotations

import json
from pathlib import Path

from joinery.model.saved_form import SavedFit

SCHEMA = Path(__file__).with_name("fit.schema.json")


def schema() -> str:
    """The schema as text."""
    return json.dumps(SavedFit.model_json_schema(), indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    SCHEMA.write_text(schema(), encoding="utf-8")

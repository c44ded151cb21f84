"""`gust bench --orders`: how exact every kind is in time and in space, measured now."""

import json
from dataclasses import asdict

from rich.console import Console
from rich.table import Table

from errant_gust.core.orders import ROWS, Order


def run_orders(*, as_json: bool, only: str) -> None:
    """Prints the table, or, as JSON, what the handbook's page is made of."""
    rows = [work() for name, work in ROWS.items() if only in name]
    if as_json:
        print(json.dumps([_rounded(row) for row in rows], indent=1, ensure_ascii=False))
        return
    for of, unit in (("time", "frames a second"), ("space", "voxels in mm")):
        table = Table("kind", "what", *(f"error {i + 1}" for i in range(4 if of == "time" else 3)), "order",
                      title=f"Errors as shares, by {unit}")  # fmt: skip
        for row in (r for r in rows if r.of == of):
            errors = [f"{e:.1e} ({t:g})" for t, e in zip(row.tried, row.errors, strict=True)]
            table.add_row(row.kind, row.what, *errors, "–" if row.order is None else f"{row.order:.2f}")
        Console(width=150).print(table)
    for row in rows:
        print(f"{row.kind}: {row.words()}")


def _rounded(row: Order) -> dict[str, object]:
    """Three figures are told: more change from machine to machine."""
    order = None if row.order is None else round(row.order, 2)
    return {**asdict(row), "errors": [float(f"{e:.3g}") for e in row.errors], "order": order}

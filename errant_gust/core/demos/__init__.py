"""Builds the demo studies from the made-up scenario, Saltglass Works, with their small mesh files.

python -m errant_gust.core.demos demo/
"""

import json
from pathlib import Path

from errant_gust.core.demos.bench import bench_flash
from errant_gust.core.demos.bubbles import blown_bubbles
from errant_gust.core.demos.chimney import chimney_downdraught
from errant_gust.core.demos.cullet import grass_of_cullet
from errant_gust.core.demos.flue import flue_embers
from errant_gust.core.demos.frost import frost_on_glass
from errant_gust.core.demos.gather import slow_gather
from errant_gust.core.demos.geometry import glass_globe, light_tower, write_obj
from errant_gust.core.demos.globe import globe_skin
from errant_gust.core.demos.harbour import harbour_gust
from errant_gust.core.demos.kiln import kiln_wisps
from errant_gust.core.demos.lagoon import lagoon_mist
from errant_gust.core.demos.lantern import lantern_flare
from errant_gust.core.demos.quench import quench_tank_dye
from errant_gust.core.demos.runnel import silica_runnel
from errant_gust.core.demos.wash import quay_wash

DEMOS = {
    "harbour_gust": harbour_gust,
    "flue_embers": flue_embers,
    "globe_skin": globe_skin,
    "lagoon_mist": lagoon_mist,
    "chimney_downdraught": chimney_downdraught,
    "bench_flash": bench_flash,
    "quench_tank_dye": quench_tank_dye,
    "kiln_wisps": kiln_wisps,
    "lantern_flare": lantern_flare,
    "slow_gather": slow_gather,
    "quay_wash": quay_wash,
    "silica_runnel": silica_runnel,
    "blown_bubbles": blown_bubbles,
    "grass_of_cullet": grass_of_cullet,
    "frost_on_glass": frost_on_glass,
}


def build(folder: Path) -> list[Path]:
    """Write every demo study and its meshes into `folder`."""
    folder.mkdir(parents=True, exist_ok=True)
    write_obj(folder / "light_tower.obj", *light_tower(), "Light tower of Saltglass Works")
    write_obj(folder / "glass_globe.obj", *glass_globe(), "Glass globe of Saltglass Works")
    made = []
    for name, study in DEMOS.items():
        path = folder / f"{name}.gust.json"
        path.write_text(json.dumps(study(), indent=1) + "\n")
        made.append(path)
    return made

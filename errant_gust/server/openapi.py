"""Prints the OpenAPI file, from which the front end's types are generated in the build."""

import json
import os

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")

if __name__ == "__main__":
    import django

    django.setup()
    from errant_gust.server.api import api
    from errant_gust.server.api.schemas import with_besides

    print(json.dumps(with_besides(api.get_openapi_schema(path_prefix="/api/")), indent=1))

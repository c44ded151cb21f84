"""Taking folders away: only what lies in the home folder, by its real place, and what a link names never."""

import shutil
from pathlib import Path

from errant_gust.core.errors import FileError
from errant_gust.core.home import home


def checked(path: Path) -> Path:
    """A path that lies in the home folder, whatever is written in it. Raises FileError for any other, and for the home
    folder itself."""
    real = path.parent.resolve() / path.name
    if path.name in ("", ".", "..") or not real.is_relative_to(home().resolve()) or real == home().resolve():
        raise FileError("does not lie in the home folder: it is left alone", where=str(path)[:200])
    return real


def remove(path: Path, quietly: bool = False) -> None:
    """Take a folder or a file away; of a link only the link. Raises FileError for what does not lie in the home folder,
    and OSError for what cannot be removed unless `quietly`."""
    real = checked(path)
    if real.is_symlink() or not real.is_dir():
        real.unlink(missing_ok=True)
    else:
        shutil.rmtree(real, ignore_errors=quietly)

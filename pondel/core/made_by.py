"""Which code made something: a hash of sources, for everything that is kept on disk.

    made_by("pondel.core.measures.levels")   # changes when that module, or one it uses, does

Whatever is kept under a name that holds this hash is not found any more once the code that makes
it has changed.
"""

from __future__ import annotations

import hashlib
import re
from functools import lru_cache
from pathlib import Path

ROOT = Path(__file__).parents[2]
WITHIN = "pondel.core"
_IMPORTS = re.compile(
    r"^[ \t]*(?:from[ \t]+(pondel\.core[\w.]*)[ \t]+import[ \t]+(\([^)]*\)|[^\n]*)"
    r"|import[ \t]+(pondel\.core[\w.]*))",
    re.MULTILINE,
)
KERNEL = re.compile(r"^@kernel\b", re.MULTILINE)


def made_by(*modules: str, root: Path = ROOT) -> str:
    """Hash of the sources of modules of the core, and of all they import from the core.

    `modules` are dotted names; a package stands for every module in it. KeyError when there is none
    of a name.
    """
    return _hash_of(tuple(sorted(modules)), root)


@lru_cache(maxsize=64)
def _hash_of(modules: tuple[str, ...], root: Path) -> str:
    sources: dict[str, bytes] = {}
    seen: set[str] = set()
    waiting = [module for name in modules for module in _members(name, root)]
    while waiting:
        name = waiting.pop()
        if name in seen:
            continue
        seen.add(name)
        path = _path(name, root)
        if path is not None:
            sources[name] = path.read_bytes()
            waiting += _imported(sources[name].decode())
    digest = hashlib.sha256()
    for name in sorted(sources):
        digest.update(name.encode() + b"\0" + sources[name] + b"\0")
    return digest.hexdigest()[:16]


def kernels(root: Path = ROOT) -> str:
    """Hash of all code that compiled kernels are made of."""
    names = [
        _name(path, root)
        for path in sorted((root / "pondel" / "core").rglob("*.py"))
        if KERNEL.search(path.read_text())
    ]
    return made_by(*names, root=root)


def _members(name: str, root: Path) -> list[str]:
    folder = root.joinpath(*name.split("."))
    if folder.is_dir():
        return [_name(path, root) for path in sorted(folder.rglob("*.py"))]
    if _path(name, root) is None:
        raise KeyError(f"the core has no module {name!r}")
    return [name]


def _imported(text: str) -> list[str]:
    """Every name that could be a module in the import lines of a source."""
    found = []
    for package, names, plain in _IMPORTS.findall(text):
        if plain:
            found.append(plain)
            continue
        found.append(package)
        found += [f"{package}.{word}" for word in re.findall(r"\w+", names)]
    return found


def _path(name: str, root: Path) -> Path | None:
    base = root.joinpath(*name.split("."))
    for path in (base.with_name(f"{base.name}.py"), base / "__init__.py"):
        if path.is_file():
            return path
    return None


def _name(path: Path, root: Path) -> str:
    parts = path.relative_to(root).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)

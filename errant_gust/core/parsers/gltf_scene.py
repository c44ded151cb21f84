"""Meshes over frames and cameras of a glTF file with its animations (nodes, skins, morph targets), by its specification
(Khronos, glTF 2.0): `gltf_scene.py FILE ENDING OUT.npz FPS FIRST MOST`. Time 0 is frame FIRST; y is up, metres."""

import base64
import json
import math
import struct
import sys
from typing import Any

import numpy as np

TYPES: dict[int, Any] = {
    5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32,
}  # fmt: skip
PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
LONGEST = 2000
"""Frames at most."""


class Scene:
    """A file's JSON and its buffers."""

    def __init__(self, path: str, ending: str) -> None:
        with open(path, "rb") as file:
            data = file.read()
        binary = b""
        if ending == "glb":
            (length,) = struct.unpack_from("<I", data, 12)
            self.said = json.loads(data[20 : 20 + length])
            rest = data[20 + length :]
            if len(rest) >= 8:
                (length,) = struct.unpack_from("<I", rest, 0)
                binary = rest[8 : 8 + length]
        else:
            self.said = json.loads(data)
        self.buffers = [self._buffer(b, binary) for b in self.said.get("buffers", [])]
        self.nodes: list[dict[str, Any]] = self.said.get("nodes", [])
        self.meshes: list[dict[str, Any]] = self.said.get("meshes", [])

    def _buffer(self, said: dict[str, Any], binary: bytes) -> bytes:
        uri = said.get("uri")
        if uri is None:
            return binary
        if not uri.startswith("data:"):
            raise SystemExit(f"!refers to another file ({uri[:60]}); export it as .glb, with all in one")
        return base64.b64decode(uri.partition(",")[2])

    def numbers(self, index: int) -> Any:
        """An accessor as (n,) or (n, parts); whole numbers that are normalised become fractions."""
        a = self.said["accessors"][index]
        if "sparse" in a or "bufferView" not in a:
            raise SystemExit("!has sparse numbers, which are not read")
        view = self.said["bufferViews"][a["bufferView"]]
        kind, parts, count = np.dtype(TYPES[a["componentType"]]), PARTS[a["type"]], int(a["count"])
        data = self.buffers[view["buffer"]]
        step = view.get("byteStride", 0) or kind.itemsize * parts
        start = view.get("byteOffset", 0) + a.get("byteOffset", 0)
        if count < 0 or step < kind.itemsize * parts or start + step * (count - 1) + kind.itemsize * parts > len(data):
            raise SystemExit("!says more numbers than it holds")
        made = np.ndarray((count, parts), kind, data, start, (step, kind.itemsize)).copy()
        if a.get("normalized"):
            made = np.maximum(made / np.iinfo(kind).max, -1.0).astype(np.float32)
        return made[:, 0] if parts == 1 else made


def sampled(times: Any, values: Any, how: str, t: float) -> Any:
    """A channel at a time: held outside of its keys; quaternions by the shorter way."""
    n = int(np.clip(np.searchsorted(times, t, side="right") - 1, 0, len(times) - 1))
    cubic = how == "CUBICSPLINE"
    if t <= times[0] or n == len(times) - 1 or how == "STEP":
        at = 0 if t <= times[0] else n
        return values[at, 1] if cubic else values[at]
    span = float(times[n + 1] - times[n])
    s = (t - float(times[n])) / span
    if cubic:
        _, p, m = values[n]
        slope, q, _ = values[n + 1]
        s2, s3 = s * s, s * s * s
        way = (2 * s3 - 3 * s2 + 1) * p + (3 * s2 - 2 * s3) * q
        return way + span * ((s3 - 2 * s2 + s) * m + (s3 - s2) * slope)
    a, b = values[n], values[n + 1]
    if how != "ROTATION":
        return a + s * (b - a)
    cosine = float(a @ b)
    b, cosine = (-b, -cosine) if cosine < 0 else (b, cosine)
    if cosine > 0.9995:
        return a + s * (b - a)
    angle = math.acos(min(1.0, cosine))
    return (math.sin((1 - s) * angle) * a + math.sin(s * angle) * b) / math.sin(angle)


def channels_of(scene: Scene) -> list[tuple[int, str, Any, Any, str]]:
    """(node, path, times, values, how) of all animations."""
    found = []
    for animation in scene.said.get("animations", []):
        for channel in animation["channels"]:
            target, sampler = channel["target"], animation["samplers"][channel["sampler"]]
            if "node" not in target:
                continue
            times = np.asarray(scene.numbers(sampler["input"]), np.float64)
            values = np.asarray(scene.numbers(sampler["output"]), np.float64)
            how = sampler.get("interpolation", "LINEAR")
            keys = len(times) * (3 if how == "CUBICSPLINE" else 1)
            if not len(times) or (np.diff(times) <= 0).any() or values.size % keys:
                raise SystemExit("!an animation's times do not rise, or do not fit its values")
            width = values.size // keys
            values = values.reshape((len(times), 3, width) if how == "CUBICSPLINE" else (len(times), width))
            if target["path"] == "rotation" and how == "LINEAR":
                how = "ROTATION"
            found.append((int(target["node"]), str(target["path"]), times, values, how))
    return found


def matrix_of(node: dict[str, Any], now: dict[str, Any]) -> Any:
    """A node's own matrix, columns as in the specification."""
    if "matrix" in node and not now:
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    x, y, z, w = now.get("rotation", node.get("rotation", (0, 0, 0, 1)))
    length = math.sqrt(x * x + y * y + z * z + w * w) or 1.0
    x, y, z, w = x / length, y / length, z / length, w / length
    made = np.eye(4)
    made[:3, :3] = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    made[:3, :3] *= np.asarray(now.get("scale", node.get("scale", (1, 1, 1))), np.float64)
    made[:3, 3] = now.get("translation", node.get("translation", (0, 0, 0)))
    return made


def placed(scene: Scene, now: list[dict[str, Any]]) -> list[Any]:
    """The matrix of every node in the scene; a node that is its own parent is refused."""
    parents = {c: n for n, node in enumerate(scene.nodes) for c in node.get("children", [])}
    made: dict[int, Any] = {}
    for n in range(len(scene.nodes)):
        chain = []
        while n not in made and n not in chain:
            chain.append(n)
            if n not in parents:
                break
            n = parents[n]
        if n not in made and n in parents:  # the way up came back to where it was
            raise SystemExit("!a part of its scene is its own parent")
        for at in reversed(chain):
            own = matrix_of(scene.nodes[at], now[at])
            made[at] = made[parents[at]] @ own if at in parents else own
    return [made[n] for n in range(len(scene.nodes))]


def vertices_of(scene: Scene, node: dict[str, Any], part: dict[str, Any], now: dict[str, Any], world: list[Any]) -> Any:
    """Places (n, 3) of a primitive's vertices in the scene, in the node's own place if it has no skin."""
    points = np.asarray(scene.numbers(part["attributes"]["POSITION"]), np.float64)
    mesh = scene.meshes[node["mesh"]]
    weights = now.get("weights", node.get("weights", mesh.get("weights", ())))
    for weight, target in zip(weights, part.get("targets", []), strict=False):
        if "POSITION" in target and weight:
            points = points + weight * np.asarray(scene.numbers(target["POSITION"]), np.float64)
    if "skin" not in node or "JOINTS_0" not in part["attributes"]:
        return points
    skin = scene.said["skins"][node["skin"]]
    joints = [world[j] for j in skin["joints"]]
    if "inverseBindMatrices" in skin:
        binds = np.asarray(scene.numbers(skin["inverseBindMatrices"]), np.float64).reshape(-1, 4, 4)
        joints = [j @ b.T for j, b in zip(joints, binds, strict=True)]
    share = np.asarray(scene.numbers(part["attributes"]["WEIGHTS_0"]), np.float64)
    share /= np.maximum(share.sum(axis=1, keepdims=True), 1e-12)
    which = np.asarray(scene.numbers(part["attributes"]["JOINTS_0"]), np.int64)
    matrices = np.einsum("nk,nkij->nij", share, np.array(joints)[which])
    return np.einsum("nij,nj->ni", matrices[:, :3, :3], points) + matrices[:, :3, 3]


def main(path: str, ending: str, out: str, fps: str, first: str, most: str) -> None:
    """Read a file and write its arrays to `out`; what is wrong with it is said by the exit."""
    scene = Scene(path, ending)
    moves = channels_of(scene)
    end = max((float(times[-1]) for _, _, times, _, _ in moves), default=0.0)
    count = math.floor(end * float(fps) + 1e-4) + 1
    if count > LONGEST:
        raise SystemExit(f"!has {count:,} frames at {fps} a second; at most {LONGEST:,} are read")
    points: list[Any] = []
    counts: list[int] = []
    corners: Any = None
    total = 0
    nodes = [(at, n) for at, n in enumerate(scene.nodes) if "mesh" in n]
    drawn = [(at, p) for at, n in nodes for p in scene.meshes[n["mesh"]]["primitives"]]
    drawn = [(at, p) for at, p in drawn if p.get("mode", 4) == 4]
    for k in range(count if drawn else 0):
        now: list[dict[str, Any]] = [{} for _ in scene.nodes]
        for moved, name, times, values, how in moves:
            now[moved][name] = sampled(times, values, how, k / float(fps))
        world = placed(scene, now)
        here, faces, offset = [], [], 0
        for at, part in drawn:
            node = scene.nodes[at]
            own = vertices_of(scene, node, part, now[at], world)
            skinned = "skin" in node and "JOINTS_0" in part["attributes"]
            matrix = np.eye(4) if skinned else world[at]
            here.append(own @ matrix[:3, :3].T + matrix[:3, 3])
            if corners is None:
                index = scene.numbers(part["indices"]) if "indices" in part else np.arange(len(own))
                index = np.asarray(index, np.int64)[: len(index) // 3 * 3]
                if len(index) and (index.min() < 0 or index.max() >= len(own)):
                    raise SystemExit("!a face names a vertex that is not in the file")
                index = index.reshape(-1, 3)
                faces.append((index[:, ::-1] if np.linalg.det(matrix[:3, :3]) < 0 else index) + offset)
            offset += len(own)
        total += offset
        if total > int(most):
            raise SystemExit(f"!has more than {int(most):,} points over all frames")
        if corners is None:
            corners = np.concatenate(faces)
        points.append(np.concatenate(here).astype(np.float32))
        counts.append(offset)
    world = placed(scene, [{} for _ in scene.nodes])
    cameras = []
    for at, node in enumerate(scene.nodes):
        if "camera" in node:
            said, m = scene.said["cameras"][node["camera"]], world[at]
            toward = -m[:3, 2] / (np.linalg.norm(m[:3, 2]) or 1.0)
            cameras.append({
                "name": node.get("name") or said.get("name") or f"camera {at}", "position": m[:3, 3].tolist(),
                "toward": toward.tolist(), "distance": 0.0, "parallel": said.get("type") == "orthographic",
            })  # fmt: skip
    corners = np.empty((0, 3), np.int64) if corners is None else corners
    told = {
        "up": "Y", "says_up": True, "metres": 1.0, "says_unit": True, "fps": float(fps),
        "frames": [int(first) + k for k in range(count if moves else 1)], "cameras": cameras, "left": [],
    }  # fmt: skip
    np.savez(
        out, told=np.array(json.dumps(told)), points=np.concatenate(points) if points else np.empty((0, 3), np.float32),
        counts=np.array(counts, np.int64), which=np.zeros(len(counts), np.int64), corners0=corners.reshape(-1),
        sides0=np.full(len(corners), 3), curve_points=np.empty((0, 3)), curve_counts=np.empty(0, np.int64),
    )  # fmt: skip


if __name__ == "__main__":
    main(*sys.argv[1:])

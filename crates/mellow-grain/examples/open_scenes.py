"""Unpacks openly licensed scenes and environments for measurements: `open_scenes.py OBJECTS.tgz SURROUNDINGS.tgz FOLDER`.

Objects: @webxr-input-profiles/assets 1.0.20 (MIT, copyright 2019 Amazon), the generic ones. Surroundings:
@pmndrs/assets 1.7.0 (CC0 1.0). Environments there are packed in a way that our reader does not take: OpenEXR's own library
writes them anew."""

import base64
import pathlib
import re
import sys
import tarfile

import OpenEXR

objects, surroundings, folder = sys.argv[1:]
folder = pathlib.Path(folder)
folder.mkdir(parents=True, exist_ok=True)
with tarfile.open(objects) as tar:
    for name, member in {
        "button": "generic-button/none.glb",
        "hand": "generic-hand/left.glb",
        "touchpad": "generic-touchpad/none.glb",
        "trigger": "generic-trigger/none.glb",
        "squeeze": "generic-trigger-squeeze/none.glb",
        "thumbstick": "generic-trigger-squeeze-thumbstick/left.glb",
    }.items():
        (folder / f"{name}.glb").write_bytes(tar.extractfile(f"package/dist/profiles/{member}").read())
with tarfile.open(surroundings) as tar:
    def unpacked(member):
        text = tar.extractfile(f"package/{member}.js").read().decode()
        return base64.b64decode(re.search(r"base64,([^']+)", text).group(1))

    for name in ["apartment", "hall", "night", "forest", "workshop", "warehouse"]:
        packed = folder / f"{name}.packed.exr"
        packed.write_bytes(unpacked(f"hdri/{name}.exr"))
        with OpenEXR.File(str(packed)) as f:
            rgb = f.channels()["RGB"].pixels
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        # Their lossy packing rings a little below zero beside bright spots.
        OpenEXR.File(header, {"RGB": rgb.clip(0)}).write(str(folder / f"{name}.exr"))
        packed.unlink()

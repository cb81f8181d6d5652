"""Opens our files with the formats' reference libraries: OpenEXR 3.5, Pillow 13, tifffile; metrics by scikit-image 0.26."""

import json

import mmh3
import numpy as np
import OpenEXR
import tifffile
from PIL import Image
from skimage.metrics import peak_signal_noise_ratio, structural_similarity


def channels(name):
    part = OpenEXR.File(name, separate_channels=True)
    header = part.header()
    lo, hi = header["dataWindow"]
    assert (tuple(lo), tuple(hi)) == ((33, 21), (82, 60)), "data window = region"
    lo, hi = header["displayWindow"]
    assert (tuple(lo), tuple(hi)) == ((0, 0), (119, 79)), "display window = frame"
    return {k: v.pixels for k, v in part.channels().items()}


def srgb(x):
    x = np.clip(x, 0, 1)
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)


a, b = channels("a.exr"), channels("b.exr")
wanted = ["R", "G", "B", "A", "depth.Z", "grain.Y", "samples.Y"]
wanted += [f"{layer}.{c}" for layer in ("noisy", "albedo") for c in "RGB"] + [f"normal.{c}" for c in "XYZ"]
wanted += ["shadow.Y", "object.id", "material.id", "first_depth.Z"] + [f"position.{c}" for c in "XYZ"]
wanted += [f"first_normal.{c}" for c in "XYZ"] + [f"first_albedo.{c}" for c in "RGB"]
pictures = {k.rsplit(".", 1)[0] for k in set(a) - set(wanted)}
assert sorted(a) == sorted(wanted + [f"{p}.{c}" for p in pictures for c in ("R", "G", "B", "grain")]), sorted(a)
# Parts add up to the picture, and so do the lights.
for lights in (False, True):
    layers = [p for p in pictures if p.startswith("light ") == lights]
    assert len(layers) > 2, layers
    for c in "RGB":
        total = sum(a[f"{p}.{c}"].astype(np.float64) for p in layers)
        assert np.allclose(total, a[f"noisy.{c}"], rtol=1e-4, atol=1e-4), (lights, c)
assert all(v.shape == (40, 50) for v in a.values())
assert a["samples.Y"].dtype == np.uint32 and set(np.unique(a["samples.Y"])) <= {4, 6, 8, 12, 16}
assert all(v.dtype == np.float32 for k, v in a.items() if k != "samples.Y")
assert np.all(b["A"] == 1) and np.all((a["A"] >= 0) & (a["A"] <= 1))
assert np.array_equal(a["R"], a["noisy.R"]), "without a denoiser the delivered picture is the noisy one"

# The PNG is the EXR through exposure 1 and the sRGB curve, in 16 bits.
shown = Image.open("b.png")
assert shown.info.get("srgb") is not None and shown.size == (50, 40)
eight = np.asarray(shown.convert("RGB"), dtype=np.float64) / 255
linear = np.stack([b[c] for c in "RGB"], axis=-1).astype(np.float64)
assert np.abs(eight - srgb(2 * linear)).max() < 1.01 / 255
assert Image.open("a.png").mode in ("RGBA", "RGBA;16B"), "alpha where the environment is transparent"

said = json.load(open("compare.json"))
da, db = srgb(np.stack([a[c] for c in "RGB"], axis=-1).astype(np.float64)), srgb(linear)
psnr = peak_signal_noise_ratio(da, db, data_range=1)
ssim = structural_similarity(
    da, db, data_range=1, gaussian_weights=True, sigma=1.5, use_sample_covariance=False, channel_axis=2
)
assert abs(said["psnr"] - psnr) < 1e-3, (said, psnr)
assert abs(said["ssim"] - ssim) < 1e-4, (said, ssim)

# Half floats, a TIFF by tifffile, and mattes by the rules of the Cryptomatte specification 1.2.0, hashed by mmh3 5.1.
c = channels("c.exr")
assert c["R"].dtype == np.float16 and c["depth.Z"].dtype == np.float32 and c["object.id"].dtype == np.float32
for k in "RGB":
    assert np.array_equal(c[k], b[k].astype(np.float16)), "half floats are the rounded floats"
assert np.array_equal(c["depth.Z"], b["depth.Z"])
shown = tifffile.imread("c.tif")
assert shown.dtype == np.uint16 and shown.shape == (40, 50, 3)
assert np.abs(shown / 65535 - srgb(2 * linear)).max() < 1e-4

header = OpenEXR.File("c.exr", separate_channels=True).header()
alpha = channels("a.exr")["A"]
for layer in ("CryptoObject", "CryptoMaterial"):
    key = f"cryptomatte/{mmh3.hash(layer, 0, signed=False):08x}"[: len("cryptomatte/") + 7]
    assert header[f"{key}/name"] == layer and header[f"{key}/hash"] == "MurmurHash3_32"
    assert header[f"{key}/conversion"] == "uint32_to_float32"
    manifest = json.loads(header[f"{key}/manifest"])
    ids = {0.0}
    for name, told in manifest.items():
        bits = mmh3.hash(name, 0, signed=False)
        if (bits >> 23) & 255 in (0, 255):
            bits ^= 1 << 23
        assert f"{bits:08x}" == told, (name, told)
        ids.add(float(np.array(bits, dtype=np.uint32).view(np.float32)))
    names = sum((c[f"{layer}{i:02}.{k}"].ravel().tolist() for i in range(3) for k in "RB"), [])
    assert set(names) <= ids and len(set(names)) > 3, "every id stands in the manifest"
    shares = np.stack([c[f"{layer}{i:02}.{k}"] for i in range(3) for k in "GA"])
    assert np.all(np.diff(shares, axis=0) <= 1e-6), "the largest share comes first"
    assert np.all(shares.sum(axis=0) <= 1 + 1e-5)
    # What objects cover is what alpha says, which was sampled otherwise.
    assert np.abs(shares.sum(axis=0) - alpha).mean() < 0.03
# An id is that of one sample: where an object covers nine tenths of a pixel, it is nearly always met.
first = c["object.id"]
strongest = c["CryptoObject00.R"]
for i in np.unique(first[first > 0]):
    inside = strongest[(first == i) & (c["CryptoObject00.G"] > 0.9)]
    assert inside.size == 0 or (inside == np.median(inside)).mean() > 0.85

# Files carry how densely they are meant to be printed, and which red, green, blue and white they mean (ITU-R BT.709-6, table 1).
assert header["xDensity"] == 254, header.get("xDensity")
told = np.array(header["chromaticities"]).ravel()
assert np.allclose(told, (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)), told
assert np.allclose(Image.open("b.png").info["dpi"], 300, atol=0.02), "the default"
with tifffile.TiffFile("c.tif") as t:
    tags = t.pages[0].tags
    n, d = tags["XResolution"].value
    assert n / d == 254 and tags["ResolutionUnit"].value == 2 and tags["YResolution"].value == (n, d)

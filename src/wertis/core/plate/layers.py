"""Which channels of a picture file make up which layer (OpenEXR: "Reading and Writing Image Files", section Layers: names with dots)."""

from dataclasses import dataclass

import OpenImageIO as oiio

MAIN = ""  # the name of the picture itself, rather than of a layer in its file
_ORDER = "RGBXYZUVWA"
_PLAIN = frozenset({"R", "G", "B", "A", "Y"})
_MOST_PARTS, _MOST_CHANNELS = 256, 1024  # a header that claims more is damaged


@dataclass(frozen=True)
class Layer:
    """A layer's place in its file: the part, and its channels there, colour first and alpha last (at most 4)."""

    part: int
    channels: tuple[int, ...]
    has_alpha: bool


def layers_in(source: oiio.ImageInput) -> dict[str, Layer]:
    """The layers of an opened picture file by name, the picture itself under "" and first.

    A channel "diffuse.R" belongs to the layer "diffuse"; a channel without a dot that is no colour is a layer by itself; what other parts of the
    file hold goes by the part's name.
    """
    found: dict[str, Layer] = {}
    part = 0
    while part < _MOST_PARTS and source.seek_subimage(part, 0):
        spec = source.spec()
        own = spec.get_string_attribute("oiio:subimagename") or spec.get_string_attribute("name")
        groups: dict[str, list[tuple[str, int]]] = {}
        letters = {name.upper() for name in spec.channelnames}
        colour = bool(letters & {"R", "G", "B"}) or ("Y" in letters and "X" not in letters)
        for index, name in enumerate(list(spec.channelnames)[:_MOST_CHANNELS]):
            head, _, last = name.rpartition(".")
            key = head or (MAIN if part or not colour or last.upper() in _PLAIN else last)
            groups.setdefault(key, []).append((last, index))
        for head, channels in groups.items():
            label = head if part == 0 or (head and head != own) else own or f"part {part + 1}"
            if label in found:
                label = f"{own or f'part {part + 1}'}: {head}" if head else f"part {part + 1}"
            found[label] = _ordered(part, channels)
        part += 1
        if source.format_name() != "openexr":
            break  # pages of a TIFF and the like are other pictures
    source.seek_subimage(0, 0)
    source.geterror()  # that there are no more parts is no error
    if MAIN not in found and found:
        found = {MAIN: next(iter(found.values())), **found}
    return {MAIN: found[MAIN], **found} if found else {}


def _ordered(part: int, channels: list[tuple[str, int]]) -> Layer:
    alpha = [i for name, i in channels if name.upper() == "A"]
    rank = {letter: k for k, letter in enumerate(_ORDER)}
    colour = [i for name, i in sorted(channels, key=lambda c: rank.get(c[0].upper(), len(rank))) if i not in alpha][:3]
    return Layer(part, (*colour, *alpha[:1]) if colour else tuple(alpha[:1]), bool(alpha) and bool(colour))

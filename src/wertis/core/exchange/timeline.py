"""A clip of what was rendered, for an edit: OpenTimelineIO (.otio), with range, rate and media."""

from pathlib import Path

from wertis.core.errors import DeliverError
from wertis.core.files import numbered, write_text


def write_clip(path: Path, name: str, media: str, first: int, last: int, fps: float) -> None:
    """Write a timeline of one clip.

    Parameters
    ----------
    media : a movie, or a picture sequence with #### or %04d for the frame's number, as it was rendered.
    first, last : its frames.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    import opentimelineio as otio  # slow to load, and wanted at the end only

    start, length = otio.opentime.RationalTime(first, fps), otio.opentime.RationalTime(last - first + 1, fps)
    whole = otio.opentime.TimeRange(start, length)
    check_name(path)
    target = _beside(Path(media), path)
    if numbered(target, first) is None:
        reference = otio.schema.ExternalReference(target_url=_url(target), available_range=otio.opentime.TimeRange(
            otio.opentime.RationalTime(0, fps), length))
        shown = reference.available_range
    else:
        stem, digits = _parted(target.name)
        reference = otio.schema.ImageSequenceReference(target_url_base=_url(target.parent) + "/", name_prefix=stem[0], name_suffix=stem[1],
                                                       start_frame=first, frame_step=1, rate=fps, frame_zero_padding=digits, available_range=whole)
        shown = whole
    clip = otio.schema.Clip(name=name, media_reference=reference, source_range=shown)
    track = otio.schema.Track(name="V1", kind=otio.schema.TrackKind.Video)
    track.append(clip)
    timeline = otio.schema.Timeline(name=name)
    timeline.tracks.append(track)
    write_text(path, timeline.to_json_string())


def check_name(path: Path) -> None:
    """Refuse a name that no clip can have, before anything long is done.

    Raises
    ------
    DeliverError
        When it does not end in .otio.
    """
    if path.suffix.lower() != ".otio":
        raise DeliverError(f"A clip for an edit is an OpenTimelineIO file; {path.name} needs .otio at its end.")


def _beside(media: Path, clip: Path) -> Path:
    """Where media lie as seen from the clip's folder where they are in it, so that both can be moved together; else their whole path."""
    whole, folder = media.absolute(), clip.absolute().parent
    return whole.relative_to(folder) if whole.is_relative_to(folder) else whole


def _url(path: Path) -> str:
    return path.as_posix() if not path.is_absolute() else path.as_uri()


def _parted(name: str) -> tuple[tuple[str, str], int]:
    """What is before and after the frame's number in a pattern, and how many digits it has."""
    if "#" in name:
        start, end = name.index("#"), name.rindex("#") + 1
        return (name[:start], name[end:]), end - start
    start, end = name.index("%"), name.index("d", name.index("%")) + 1
    return (name[:start], name[end:]), int(name[start + 1:end - 1] or 1)

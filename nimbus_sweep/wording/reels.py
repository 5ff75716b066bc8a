"""The words for what is out of the ordinary about a reel, and for what a delivery cannot hold of it."""

from __future__ import annotations

from typing import Protocol

from ..core.media.remarks import Remark

_REMARKS = {
    # Of a reel, as it was read.
    "frames-missing": "{frames} missing{why}; {readable} can be read. Copy the file again, or accept the missing frames to mend what is there.",
    "header-counts-fewer": "The header counts {counted} frames; {count} are there.",
    "starts-late": "The first picture is stamped {start:.3f} s; the delivery starts at 0.",
    "timing-varies": "Frame timing varies, {shortest:.1f} to {longest:.1f} ms; it is kept as it is.",
    "frames-dropped": "About {frames} to have been dropped in recording: the next comes a whole multiple late.",
    "no-times": "The pictures carry no times; they are counted at the rate the stream names or the usual one.",
    "frames-undecodable": "{count} frames cannot be decoded; they are shown as missing.",
    "stretch-altered": "By its own checks the file is not what was written where frames {first} to {last} lie; they may show what is wrong.",
    "frames-unreadable": "{frames} cannot be read: {shown}. Shown as missing.",
    "numbers-without-picture": "{numbers} no picture: {shown}. Shown as missing.",
    "channels-left-out": "Channels {names} are left alone and not delivered.",
    "first-part-only": "Only the first part of each picture is read.",
    # Of a delivery: what of the source its format cannot hold.
    "float-to-whole": "Floats become whole numbers of {bits} bit; what is brighter than white is cut off.",
    "fewer-bits": "{source} bit become {bits}.",
    "whole-to-float": "Values are written as floats from 0 to 1 as they are; they are not turned into linear light.",
    "alpha-lost": "The alpha channel is left out.",
    "to-rgb": "Y'CbCr becomes R'G'B': nearly the same, not sample for sample.",
    "to-ycbcr": "R'G'B' becomes Y'CbCr: nearly the same, not sample for sample.",
    "colour-coarser": "Colour is kept at fewer places than in the source.",
    "colour-spread": "Colour is spread over more places than in the source.",
    "lossy": "The codec loses a little: samples outside the repairs are not the source's own.",
    "log-not-named": "It cannot say that its values are logarithmic; tell whoever takes it.",
    "primaries-not-named": "Pictures do not name the primaries; tell whoever takes them.",
    "fields-not-named": "Pictures do not say that they are made of fields, nor which comes first.",
    "timing-lost": "A sequence has one rate; the varying times between frames are lost.",
    "time-code-lost": "Time code is not kept in the pictures; it is in the report.",
    "sound-recoded": "Sound in {codecs} cannot be copied into it and becomes {sound}.",
    "gaps-stay": "{count} missing frames stay gaps in the numbering.",
    "gaps-black": "{count} missing frames are black in the delivery.",
}


def remark(one: Remark) -> str:
    """A remark in words."""
    if one.said:
        return one.said
    values = dict(one.values)
    count = values.get("count")
    frames = "1 frame" if count == 1 else f"{count} frames"
    if one.code == "frames-missing":
        values |= {
            "frames": f"{frames} {'is' if count == 1 else 'are'}",
            "why": f" (reading stopped: {e})" if (e := values["error"]) else "",
        }
    elif one.code == "frames-dropped":
        values["frames"] = f"{frames} {'seems' if count == 1 else 'seem'}"
    elif one.code == "frames-unreadable":
        values["frames"] = frames
    elif one.code == "numbers-without-picture":
        values["numbers"] = "1 number has" if count == 1 else f"{count} numbers have"
    return _REMARKS[one.code].format(**values)


class Rhythm(Protocol):
    """How frames repeat, as `Repeats` and the facts of a reel have it."""

    @property
    def period(self) -> tuple[int, int]:
        """So many distinct frames carried as so many."""
        ...

    @property
    def pulled_down(self) -> float:
        """Share of the frames that are pulled-down film."""
        ...


def cadence(known: Rhythm) -> str:
    """The rhythm in which frames repeat; empty when there is none."""
    # An earlier version stored words.
    if words := getattr(known, "cadence", ""):
        return str(words)
    distinct, carried = known.period
    if carried:
        return f"{distinct} frames carried as {carried}"
    return f"pulled-down fields, in {100 * known.pulled_down:.0f} % of the frames" if known.pulled_down else ""


FILTERS = {"remark": remark, "cadence": cadence}

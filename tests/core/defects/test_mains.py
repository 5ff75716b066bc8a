"""Lamps, mains and shutters against worked values."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest

from nimbus_sweep.core.defects.unsteady_light.mains import (
    SWING,
    alias,
    fitting,
    lamp,
    lit_rows,
    longest_shutter,
    readout_of,
    safe_shutters,
    sheet,
    swing_left,
)


# Worked values that camera makers and cinematography manuals print (common practice; values from memory): lamps on 50 Hz
# pulse at 100 Hz, on 60 Hz at 120 Hz; at 24 frames/s a 172.8-degree shutter is right under 50 Hz, a 144-degree one under 60 Hz.
@pytest.mark.parametrize(
    ("mains", "rate", "shows", "beat"),
    [
        (50, Fraction(24), 4.0, 6.0),
        (50, Fraction(25), 0.0, float("inf")),
        (50, Fraction(30), 10.0, 3.0),
        (50, Fraction(50), 0.0, float("inf")),
        (50, Fraction(200), 100.0, 2.0),
        (60, Fraction(25), 5.0, 5.0),
        (60, Fraction(24), 0.0, float("inf")),
        (60, Fraction(30), 0.0, float("inf")),
        (60, Fraction(50), 20.0, 2.5),
        (60, Fraction(30000, 1001), 0.1199, 250.0),
        (60, Fraction(24000, 1001), 0.1199, 200.0),
    ],
)
def test_where_lamps_show(mains: int, rate: Fraction, shows: float, beat: float) -> None:
    seen = alias(mains, rate)
    assert seen.shows == pytest.approx(shows, abs=1e-3)
    assert seen.beat == pytest.approx(beat, rel=2e-3)


def test_shutters_of_whole_pulses_are_safe() -> None:
    assert Fraction(1, 50) in safe_shutters(50, 24)
    assert 360 * Fraction(1, 50) * 24 == pytest.approx(172.8)
    assert 360 * Fraction(1, 60) * 24 == 144
    assert safe_shutters(50, 25) == [Fraction(4, 100), Fraction(3, 100), Fraction(2, 100), Fraction(1, 100)]
    assert safe_shutters(50, 200) == []
    for shutter in safe_shutters(60, 24):
        assert swing_left(60, float(shutter)) == pytest.approx(0, abs=1e-9)
    # The mean of a full swing over a shutter is the sinc of its turns.
    assert swing_left(50, 1 / 200) == pytest.approx(2 / 3.14159265, rel=1e-6)
    assert swing_left(50, 1e-6) == pytest.approx(1, abs=1e-6)


def test_bands_tell_the_read_out_and_bound_the_shutter() -> None:
    # The sheet below: 1/40 s on 50 Hz is two and a half bands.
    assert readout_of(2.5, 50) == pytest.approx(1 / 40)
    for mains, shutter in ((50, 1 / 200), (60, 1 / 500), (60, 1 / 150)):
        assert longest_shutter(mains, swing_left(mains, shutter)) == pytest.approx(shutter, rel=1e-6)
    # The second maximum of sin x / x lies where tan x is x, at 4.4934 (from memory): so weak a swing says nothing.
    assert abs(np.sinc(4.4934 / np.pi)) < 0.2173
    assert longest_shutter(50, 0.2) is None


def test_the_sheet_works_everything_out() -> None:
    told = sheet(50, Fraction(30), 1 / 60, 1 / 40)
    assert told.angle == pytest.approx(180)
    assert told.half == Fraction(1, 60)
    assert told.bands == pytest.approx(2.5)
    assert told.climb == pytest.approx(1 / 3 / 2.5)
    assert sheet(50, Fraction(25), 1 / 50).climb == 0
    for bad in ((Fraction(0), 1 / 50, 0), (Fraction(25), 1 / 20, 0), (Fraction(25), 0, 0), (Fraction(25), 1 / 50, 0.1)):
        with pytest.raises(ValueError, match=r"frame|shutter"):
            sheet(50, *bad)


def test_a_measured_pulse_is_fitted_to_the_mains() -> None:
    assert [a.mains for a in fitting(1 / 3, Fraction(30))] == [50]
    assert [a.mains for a in fitting(-1 / 6, Fraction(24))] == [50]
    assert [a.mains for a in fitting(0.2, Fraction(25))] == [60]
    assert fitting(0.37, Fraction(25)) == []


@pytest.mark.parametrize(("shutter", "readout"), [(1 / 50, 0.02), (1 / 160, 0.02), (1 / 120, 0.0)])
def test_what_is_drawn_over_rows_is_the_lamp_over_their_exposures(shutter: float, readout: float) -> None:
    lit = lit_rows(50, Fraction(30), shutter, readout, 4, 9)
    for n, row in ((0, 0), (1, 4), (3, 8)):
        opens = n / 30 + readout * row / 8
        # By the midpoint rule, in many small steps.
        steps = opens + shutter * (np.arange(20_000) + 0.5) / 20_000
        assert lit[n, row] == pytest.approx(float(lamp(50, steps).mean()), abs=1e-6)
    assert np.ptp(lit) / 2 <= SWING * swing_left(50, shutter) + 1e-9

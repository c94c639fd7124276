"""A question put to the bench."""

from collections.abc import Callable

from saltanvil.studies.bench.aliasing import aliasing
from saltanvil.studies.bench.burst import burst
from saltanvil.studies.bench.curve import curve
from saltanvil.studies.bench.harmonics import harmonics
from saltanvil.studies.bench.impulse import impulse
from saltanvil.studies.bench.intermodulation import intermodulation
from saltanvil.studies.bench.noise import noise
from saltanvil.studies.bench.result import BenchRequest, Result, Test
from saltanvil.studies.bench.runner import Bench


def measured(bench: Bench, question: BenchRequest) -> Result:
    if question.frequency_hz >= 0.45 * bench.rate:
        raise ValueError(f"a tone of {question.frequency_hz:g} Hz is too high for a rate of {bench.rate} Hz")
    run: dict[Test, Callable[[Bench, BenchRequest], Result]] = {
        "harmonics": harmonics,
        "intermodulation": intermodulation,
        "aliasing": aliasing,
        "curve": curve,
        "burst": burst,
        "impulse": impulse,
        "noise": noise,
    }
    result = run[question.test](bench, question)
    bench.progress(1.0)
    return result

"""Five hundred mutated files of all kinds, by API and by command. `benchmarks/fuzz.py` takes ten thousand and more."""

from tests.fuzz.drive import fuzzing

FILES = 500


def test_mutated_files_lead_to_results_or_words(tmp_path):
    wrong = []
    with fuzzing(tmp_path) as fuzz:
        for seed in range(FILES):
            result = fuzz.run(seed)
            if result is not None:
                wrong.append(result)
    assert not wrong, "\n".join(wrong[:20])
    # Some are still whole enough to be taken: the mutations reach what lies behind the first check.
    assert all(fuzz.taken[kind] for kind in ("audio", "midi", "presets", "path", "sections", "curve")), fuzz.taken

"""Five hundred mutated files of all kinds, by API and by command. `benchmarks/fuzz.py` takes ten thousand and more."""

from tests.fuzz import drive

FILES = 500


def test_mutated_files_lead_to_results_or_words(tmp_path):
    wrong = []
    with drive.fuzzing(tmp_path) as fuzz:
        for seed in range(FILES):
            result = fuzz.run(seed)
            if result is not None:
                wrong.append(result)
    assert not wrong, "\n".join(wrong[:20])
    assert fuzz.taken["audio"] > 50 and fuzz.taken["midi"] > 20, fuzz.taken  # what lies behind the first check is reached


def test_whole_files_are_taken(tmp_path, monkeypatch):
    """Otherwise the mutations would be of files that are none."""
    monkeypatch.setattr(drive, "mutated", lambda rng, data: data)
    with drive.fuzzing(tmp_path) as fuzz:
        assert [result for seed in range(100) if (result := fuzz.run(seed)) is not None] == []
    assert all(fuzz.taken.values()), fuzz.taken

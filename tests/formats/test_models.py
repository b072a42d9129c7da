from pathlib import Path

import pytest

from welvo.formats.files import RigFileError
from welvo.formats.models import check_model, from_folder, read_model, shipped_models, write_model


def test_shipped_models_are_whole() -> None:
    models = shipped_models()
    assert {"weir-2", "sluice-4"} <= set(models)
    for model in models.values():
        assert model.ports and model.note and (model.settings or model.kind in ("bridge", "serial"))
        check_model(model)
        assert read_model(write_model(model), "again") == model
        for spec in model.settings:
            assert spec.help.endswith(".") and len(spec.help) > 20, spec.key
            assert spec.type != "choice" or spec.factory in spec.options


def test_the_users_own_models_are_read_and_the_bad_ones_named(tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text('name = "Mine"\nports = ["1"]\n')
    (tmp_path / "bad.toml").write_text("name = ")
    (tmp_path / "odd.toml").write_text('name = "Odd"\nports = 3\n')
    models, problems = from_folder(tmp_path)
    assert list(models) == ["mine"] and len(problems) == 2 and "bad.toml is no TOML" in " ".join(problems)
    with pytest.raises(RigFileError, match="ports"):
        read_model('name = "x"\nports = 3', "x.toml")

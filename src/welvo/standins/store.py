"""What a simulated device holds of its settings: entered, saved and active, and what each still waits for.

Real pages differ in what they want after a value was typed: nothing, a save, "apply", a restart, or several of these.
So the three states are kept apart here as a device keeps them: what was entered and not saved is gone after a restart;
what was saved and needs a restart does nothing before one. A model's `needs` says which of them a setting knows.
"""

from __future__ import annotations

from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.plan import all_settings, read_setting, spec_of
from welvo.rig.wiring import DeviceModel, Need, SettingSpec

Values = dict[str, SettingValue]


class Store:
    """The settings of one device by full key. `forgets` lets unsaved ones go at a restart, as real devices do."""

    def __init__(self, model: DeviceModel, settings: Values) -> None:
        self.model = model
        own = {key: spec.factory for key, _, spec in all_settings(model) if spec.factory != ""}
        self.active: Values = {**own, **settings}
        self.saved: Values = dict(self.active)
        self.entered: Values = {}
        self.refuses: dict[str, str] = {}
        """Settings that the device refuses, and in which words: a fault to be switched on."""

    def spec_of_setting(self, key: str) -> SettingSpec | None:
        return spec_of(self.model, key)

    def enter_value(self, key: str, value: SettingValue) -> str:
        """Take a value. Gives why not, in the device's words; empty when it was taken."""
        spec = self.spec_of_setting(key)
        if spec is None:
            return "unknown setting"
        if not spec.writable:
            return "cannot be set from here"
        if key in self.refuses:
            return self.refuses[key]
        why = self._why_wrong(spec, value)
        if why:
            return why
        if not spec.needs:
            self.active[key] = self.saved[key] = value
        elif spec.needs == ("save",):
            self.active[key] = self.entered[key] = value
        else:
            self.entered[key] = value
        if self.entered.get(key) == self.saved.get(key) == self.active.get(key):
            self.entered.pop(key, None)
        return ""

    def _why_wrong(self, spec: SettingSpec, value: SettingValue) -> str:
        if isinstance(value, str) and not value and spec.type in ("ip", "text"):
            return ""
        if spec.type == "switch":
            return "" if isinstance(value, bool) else "on or off"
        if spec.type in ("number", "universe", "decimal"):
            whole = isinstance(value, int) and not isinstance(value, bool)
            if not whole and not (spec.type == "decimal" and isinstance(value, float)):
                return "not a number"
            if not spec.low <= value <= spec.high:  # type: ignore[operator]
                return f"only {spec.low} to {spec.high}"
            return ""
        try:
            read_setting(spec, str(value))
        except Refused as e:
            return str(e)
        return ""

    def save_entered(self) -> None:
        for key, value in list(self.entered.items()):
            self.saved[key] = value
            if not {"apply", "restart"} & set(self._needs_of_setting(key)):
                self.active[key] = value
                del self.entered[key]
            elif "apply" not in self._needs_of_setting(key):
                del self.entered[key]

    def apply_entered(self) -> None:
        for key in {*self.entered, *self.saved}:
            if "apply" in self._needs_of_setting(key) and "restart" not in self._needs_of_setting(key):
                self.active[key] = self.entered.get(key, self.saved.get(key, self.active.get(key, "")))
                if "save" not in self._needs_of_setting(key):
                    self.saved[key] = self.active[key]
                if self.saved.get(key) == self.active[key]:
                    self.entered.pop(key, None)

    def restart_with_saved(self) -> None:
        """Begin anew with what was saved."""
        self.entered.clear()
        self.active = dict(self.saved)

    def reset_to_factory(self) -> int:
        """Everything as it was at first; gives how many settings were others."""
        fresh = {key: spec.factory for key, _, spec in all_settings(self.model) if spec.factory != ""}
        lost = sum(self.saved.get(k) != v for k, v in fresh.items()) + len(self.saved.keys() - fresh.keys())
        self.saved = dict(fresh)
        self.restart_with_saved()
        return lost

    def _needs_of_setting(self, key: str) -> tuple[Need, ...]:
        spec = self.spec_of_setting(key)
        return spec.needs if spec else ()

    def waiting_settings(self) -> dict[str, tuple[Need, ...]]:
        """What each setting still needs before the device works by it, and goes on doing so after a restart."""
        found: dict[str, tuple[Need, ...]] = {}
        for key in {*self.entered, *self.saved}:
            needs = self._needs_of_setting(key)
            new = self.entered.get(key, self.saved.get(key))
            left: list[Need] = []
            if "save" in needs and self.saved.get(key) != new:
                left.append("save")
            if self.active.get(key) != new:
                left += [n for n in needs if n != "save"]
            if left:
                found[key] = tuple(left)
        return found

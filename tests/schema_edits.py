"""Edits of every kind, drawn from their JSON schema; some of what they name is there, some has gone, some belongs to another."""

from saltanvil.session.apply import EDIT
from saltanvil.session.document.session import Session
from saltanvil.session.validate import checked
from tests.edits import numbers

SCHEMA = EDIT.json_schema()
DEFS = SCHEMA["$defs"]
OPS = sorted(SCHEMA["discriminator"]["mapping"])
#: What a field of ids names.
NAMED = {
    "strip_id": "strips", "strip_ids": "strips", "strips": "strips",
    "feeders": "strips", "target": "strips", "output": "strips", "step_id": "steps", "step_ids": "steps",
    "lane_id": "lanes", "lanes": "lanes", "keep": "lanes", "send_id": "sends", "lever_id": "levers", "section_id": "sections",
    "like": "sections", "remove": "points",
}  # fmt: skip
KINDS = ("compressor", "gate", "saturator", "ducker", "trim", "echo")


def full_session(recorded=False):
    """Everything that an edit can name, with two sections at the same place. recorded: with recordings, one of them printed."""

    def step(kind, name, **more):
        return {"kind": kind, "id": name, **more}

    def points(*values):
        return {"points": [{"id": f"p{n}", "at_s": 2.0 * n, "value": held} for n, held in enumerate(values)]}

    lanes = [{"id": f"l{n}", "name": f"L{n}", "linked": True, "path": {"steps": [step("compressor", f"c{n}")]}} for n in range(3)]
    bands = {**step("split", "bands"), "settings": {"by": "bands", "dividers_hz": [200.0, 2000.0]}, "lanes": lanes}
    copies = {
        **step("split", "par"),
        "settings": {"by": "copies"},
        "lanes": [{"id": "dry", "name": "Dry"}, {"id": "wet", "name": "Wet"}],
    }
    kept = {"on": 1, "kept": {n: step("compressor", "slotted", settings={"threshold_db": -10.0 * n}) for n in (1, 2)}}
    envelope = {"threshold_db": points(-20.0, -30.0, -25.0)}
    by_section = {"drive_db": {"sections": {"verse": 1.0, "chorus": 6.0}}}
    lever = {"id": "own", "name": "Own", "value": 0.5, "targets": [{"of": "step", "id": "sat", "name": "drive_db", "by": 6.0}]}
    of_all = {"id": "all", "name": "All", "targets": [{"of": "strip", "id": "kick", "name": "level_db", "by": -3.0}]}
    sections = [("verse", 0.0, 4.0), ("chorus", 4.0, 8.0), ("again", 4.0, 8.0)]
    plays = {"media_id": 1} if recorded else {}
    printed = {"media_id": 2, "start_s": 1.0, "trim_db": -3.0, "channels": 1, "bypass": {"late": False},
               "trim_envelope": points(-3.0, 0.0), "bypass_envelopes": {"late": points(0.0, 1.0)}}  # fmt: skip
    voice = {"id": "voice", "name": "Voice", "kind": "track", "media_id": 3, "printed": printed,
             "path": {"steps": [step("gate", "late", bypass=True)]}}  # fmt: skip
    return checked(
        Session.model_validate(
            {
                "name": "S",
                "sections": [{"id": name, "name": name, "start_s": start, "end_s": end} for name, start, end in sections],
                "levers": [of_all],
                "links": [{"id": "tied", "step_ids": ["glue", "moved", "c1"]}],
                "strips": [
                    {"id": "main", "name": "Main", "kind": "main", "output": None},
                    {"id": "bus", "name": "Bus", "kind": "bus", "path": {"steps": [step("compressor", "glue")]}},
                    {
                        "id": "kick", "name": "Kick", "kind": "track", **plays, "sends": [{"id": "s1", "target": "bus"}],
                        "path": {"steps": [bands, step("compressor", "slotted", slots=kept)]},
                    },
                    {
                        "id": "bass", "name": "Bass", "kind": "track", **plays,
                        "path": {
                            "levers": [lever],
                            "steps": [
                                step("compressor", "moved", key={"strip_id": "kick"}, envelopes=envelope),
                                step("saturator", "sat", envelopes=by_section, match_over={"section_id": "verse"}),
                                copies,
                            ],
                        },
                    },
                    *([voice] if recorded else []),
                ],
            }
        )
    )  # fmt: skip


class World:
    """What a drawn edit may name."""

    def __init__(self, session, rng):
        self.session, self.rng = session, rng
        paths = [strip.path for strip in session.strips]
        self.ids = {
            "strips": [strip.id for strip in session.strips],
            "steps": [step.id for path in paths for step in path.walk()],
            "lanes": [lane.id for path in paths for lane in path.lanes()],
            "sends": [send.id for strip in session.strips for send in strip.sends],
            "levers": [lever.id for _, lever in session.all_levers()],
            "sections": [section.id for section in session.sections],
            "points": ["p0", "p1", "p2"],
        }
        self.numbers = [
            number for number in numbers(session) if not isinstance(number[3].minimum, type(None)) or number[3].type == "switch"
        ]

    def edit(self, op=None):
        op = op or self.rng.choice(OPS)
        return self.drawn({"$ref": SCHEMA["discriminator"]["mapping"][op]}, "")

    def some(self, sort):
        """An id of a sort: most of the time of what is there."""
        pick = self.rng.random()
        if pick < 0.1 or not self.ids[sort]:
            return "gone"
        return (
            self.rng.choice(self.ids[self.rng.choice(list(self.ids))] or ["gone"])
            if pick < 0.2
            else self.rng.choice(self.ids[sort])
        )

    def fresh(self):
        return f"n{self.rng.randrange(10**9)}"

    def address(self):
        of, name, setting, told = self.rng.choice(self.numbers)
        return {"of": of, "id": name if self.rng.random() < 0.9 else "gone", "name": setting}, told

    def number(self, told):
        if told.type == "switch":
            return self.rng.random() < 0.5
        return self.rng.choice([told.minimum, told.maximum, told.default, self.rng.uniform(told.minimum, told.maximum)])

    # ---- by schema -----------------------------------------------------------------------------------------------------

    def drawn(self, schema, name):
        if "$ref" in schema:
            sort = schema["$ref"].rsplit("/", 1)[1]
            own = getattr(self, f"draw_{sort.lower()}", None)
            return own() if own is not None else self.drawn({**DEFS[sort], "sort": sort}, name)
        if "const" in schema:
            return schema["const"]
        if "enum" in schema:
            return self.rng.choice(schema["enum"])
        if "anyOf" in schema:
            return self.drawn(self.rng.choice(schema["anyOf"]), name)
        kind = schema.get("type")
        if kind == "null":
            return None
        if kind == "boolean":
            return self.rng.random() < 0.5
        if kind in ("integer", "number"):
            low, high = schema.get("minimum", schema.get("exclusiveMinimum", -20)), schema.get("maximum", 20)
            high = min(high, low + (5 if kind == "integer" else 40))
            return self.rng.randint(low, high) if kind == "integer" else self.rng.uniform(low, high)
        if kind == "string":
            return (
                self.some(NAMED[name])
                if name in NAMED
                else self.fresh()
                if "pattern" in schema
                else f"Name {self.rng.randrange(9)}"
            )
        if kind == "array":
            if "prefixItems" in schema:
                return sorted(self.drawn(item, name) for item in schema["prefixItems"])
            size = self.rng.randint(schema.get("minItems", 0), max(schema.get("minItems", 0), min(schema.get("maxItems", 3), 3)))
            return [self.drawn(schema["items"], name) for _ in range(size)]
        return self.drawn_object(schema)

    def drawn_object(self, schema):
        fields = schema.get("properties", {})
        result = {
            field: self.drawn(part, field)
            for field, part in fields.items()
            if field in schema.get("required", ()) or field == "op" or self.rng.random() < 0.5
        }
        if {"of", "id", "name"} <= set(fields):
            result |= self.address()[0]
            if result.get("op") in ("move_range", "thin_range") and self.rng.random() < 0.5:
                by = {"by": 1.0} if result["op"] == "move_range" else {}
                result |= {"of": "step", "id": "moved", "name": "threshold_db", "start_s": 0.0, "end_s": 9.0, **by}
        elif result.get("op") == "on_strips":
            result["edits"] = [{"op": "remove_step", "step_id": "moved"}] if self.rng.random() < 0.5 else result["edits"][:1]
            for edit in result["edits"]:
                if edit.get("op") in ("add_step", "add_lever"):
                    edit |= {"strip_id": "bass", "lane_id": None} if edit["op"] == "add_step" else {"strip_id": "bass"}
        elif {"of", "id"} <= set(fields):  # slots
            result["of"] = self.rng.choice(["step", "lane", "strip"])
            result["id"] = self.some({"step": "steps", "lane": "lanes", "strip": "strips"}[result["of"]])
            if self.rng.random() < 0.5 and result.get("op") in ("switch_slot", "clear_slot"):
                result |= {"of": "step", "id": "slotted", "slot": self.rng.choice([1, 2])}
        return result

    def draw_moved(self):
        address, told = self.address()
        return {**address, "value": self.number(told)}

    def draw_levertarget(self):
        return {**self.address()[0], "by": self.rng.choice([2.0, -3.0, 0.5])}

    def draw_step(self, depth=0):
        step = {"id": self.fresh() if self.rng.random() < 0.9 else self.some("steps"), "kind": self.rng.choice(KINDS)}
        if step["kind"] in ("compressor", "gate", "ducker") and self.rng.random() < 0.5:
            step["key"] = {self.rng.choice(["strip_id", "step_id", "lane_id"]): self.rng.choice(["gone", "kick", "sat", "dry"])}
        if step["kind"] == "saturator":
            step["envelopes"] = {"drive_db": {"sections": {self.some("sections"): 3.0}}}
            step["match_over"] = {"section_id": self.some("sections")}
        if depth < 2 and self.rng.random() < 0.2:
            lanes = [{"id": self.fresh(), "name": "L", "path": {"steps": [self.draw_step(depth + 1)]}} for _ in range(2)]
            if self.rng.random() < 0.3:
                lanes[1]["output"] = self.some("strips")
            return {"id": step["id"], "kind": "split", "settings": {"by": "copies"}, "lanes": lanes}
        return step

    def draw_path(self):
        return {
            "steps": [self.draw_step() for _ in range(self.rng.randint(0, 2))],
            "levers": [self.draw_lever()][: self.rng.randint(0, 1)],
        }

    def draw_lever(self):
        targets = [self.draw_levertarget() for _ in range(self.rng.randint(0, 2))]
        return {"id": self.fresh() if self.rng.random() < 0.9 else "own", "name": "Lever", "targets": targets}

    def draw_strip(self):
        sends = [{"id": self.fresh(), "target": self.some("strips")}][: self.rng.randint(0, 1)]
        return {
            "id": self.fresh(), "name": "New", "kind": self.rng.choice(["track", "bus"]), "path": self.draw_path(),
            "sends": sends, "output": self.rng.choice(["main", "bus", "gone", None]),
        }  # fmt: skip

    def draw_section(self):
        start = self.rng.choice([0.0, 4.0, 6.0])
        return {"id": self.fresh(), "name": "New", "start_s": start, "end_s": start + self.rng.choice([2.0, 4.0])}

    def draw_stretch(self):
        return self.rng.choice([{}, {"section_id": self.some("sections")}, {"start_s": 1.0, "end_s": 2.0}])

    def draw_envelope(self):
        if self.rng.random() < 0.5:
            return {"sections": {self.some("sections"): self.rng.choice([0.0, 1.0, -10.0])}}
        return {
            "points": [{"id": self.fresh(), "at_s": float(at), "value": self.rng.choice([0.0, 1.0, -10.0])} for at in range(3)]
        }

    def draw_setdelivery(self):
        values = {"formats": ["wav16", "flac24"][: self.rng.randint(1, 2)], "strip_ids": ["main", "kick"], "true_peak_dbtp": -2.0}
        name = self.rng.choice(list(values))
        return {"op": "set_delivery", "values": {name: values[name]}}

    def draw_version(self):
        of = self.rng.choice(["step", "lane", "strip"])
        name = self.some({"step": "steps", "lane": "lanes", "strip": "strips"}[of])
        if of == "step":
            return {"of": of, "id": name, "step": {**self.draw_step(), "id": name}}
        if of == "lane":
            return {"of": of, "id": name, "lane": {"id": name, "name": "L", "path": {"steps": [self.draw_step()]}}}
        return {"of": of, "id": name, "path": self.draw_path()}

    def draw_batch(self):
        others = [op for op in OPS if op != "batch"]
        return {"op": "batch", "edits": [self.edit(self.rng.choice(others)) for _ in range(self.rng.randint(1, 3))]}

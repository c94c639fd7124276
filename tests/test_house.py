"""The house rules: imports run downwards, nothing of this or another machine in the lock files."""

import ast
import re
import subprocess
from pathlib import Path

ROOT = Path(__file__).parent.parent
ORDER = [
    "cli",
    "web",
    "demo",
    "sound",
    "store",
    "studies",
    "engine",
    "session",
    "processors",
    "measure",
    "media",
    "dsp",
    "errors",
]
PURE = ["dsp", "measure", "processors", "session", "engine", "studies"]


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def test_imports_run_down_the_list():
    files = [
        path for path in (ROOT / "src/saltanvil").rglob("*.py") if path.stem != "__init__" or path.parent.name != "saltanvil"
    ]
    assert len(files) > 40
    for path in files:
        part = path.relative_to(ROOT / "src/saltanvil").parts[0].removesuffix(".py")
        for name in imports(path):
            if name.startswith("saltanvil."):
                target = name.split(".")[1]
                assert ORDER.index(target) >= ORDER.index(part), f"{path} imports {name}"
            if part in PURE:
                assert name.split(".")[0] not in ("fastapi", "starlette", "sqlite3"), f"{path} imports {name}"


def test_lock_files_name_no_host():
    text = (ROOT / "web/package-lock.json").read_text()
    assert '"resolved"' not in text and "://" not in text
    for name in ("requirements.txt", "requirements-test.txt"):
        assert "://" not in (ROOT / name).read_text()


def test_the_commands_have_help():
    run = subprocess.run([ROOT / ".venv/bin/saltanvil", "--help"], capture_output=True, text=True)
    assert run.returncode == 0 and all(word in run.stdout for word in ("serve", "measure", "process", "steps", "render"))


def rules_told():
    """The table of architecture.md: what a stranger would look for, and the file and name where it stands."""
    text = (ROOT / "docs/architecture.md").read_text()
    for line in text.split("\n"):
        cells = [cell.strip().strip("`") for cell in line.strip("|").split("|")]
        if len(cells) == 3 and cells[1].endswith(".py"):
            yield cells


def test_rules_of_the_trade_stand_where_the_architecture_says():
    told = list(rules_told())
    assert len(told) >= 12 and len({rule for rule, _, _ in told}) == len(told)
    for rule, file, name in told:
        tree = ast.parse((ROOT / "src/saltanvil" / file).read_text())
        named = ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef
        names = {node.name for node in tree.body if isinstance(node, named)}
        for node in tree.body:
            targets = node.targets if isinstance(node, ast.Assign) else []
            targets += [node.target] if isinstance(node, ast.AnnAssign) else []
            names |= {part.id for target in targets for part in ast.walk(target) if isinstance(part, ast.Name)}
        assert name in names, f"{rule}: {file} has no {name}"


def test_the_document_and_its_graph_do_not_know_each_other():
    """The document is data; what makes it whole stands above it."""
    named = {name for path in (ROOT / "src/saltanvil/session/document").glob("*.py") for name in imports(path)}
    assert not named & {f"saltanvil.session.{name}" for name in ("graph", "validate", "edits", "apply", "settings", "levels")}


def test_nobody_but_the_settings_resolves_what_a_step_runs_with():
    for path in (ROOT / "src/saltanvil").rglob("*.py"):
        text = path.read_text()
        if path.parts[-2] == "processors" or path.name == "settings.py":
            continue
        assert ".with_loudness_gain(" not in text or path.name == "match.py", path
        assert ".low_latency_settings(" not in text or path.name == "routing.py", path


def test_the_readme_is_short_and_links_lead_somewhere():
    text = (ROOT / "README.md").read_text()
    assert len(text.split()) <= 1000
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name} links to {target}"


def module_name(path):
    return ".".join(path.relative_to(ROOT / "src").with_suffix("").parts).removesuffix(".__init__")


#: Imports within functions: what need not be there, and what would cost every start half a second.
LATE = {
    ("studies.delivery.batch_pool", "distributed"),
    ("measure.spectrum", "scipy.fft"),
    ("studies.aim", "scipy.optimize"),
    ("studies.resonances", "scipy.optimize"),
    ("web.resonances", "saltanvil.studies.resonances"),
    ("web.sessions", "saltanvil.demo.make"),
    ("cli.serving", "saltanvil.demo.make"),
}


def test_no_import_is_hidden_in_a_function_but_those_that_say_why():
    late = set()
    for path in (ROOT / "src/saltanvil").rglob("*.py"):
        for function in ast.walk(ast.parse(path.read_text())):
            if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef):
                for node in ast.walk(function):
                    if isinstance(node, ast.Import | ast.ImportFrom):
                        name = node.module if isinstance(node, ast.ImportFrom) else node.names[0].name
                        late.add((module_name(path).removeprefix("saltanvil."), name))
    assert late == LATE


def test_modules_import_each_other_in_no_circle():
    modules = {module_name(path): path for path in (ROOT / "src").rglob("*.py")}
    ahead = {}
    for name, path in modules.items():
        ahead[name] = set()
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ImportFrom) and node.module in modules:
                inner = {f"{node.module}.{alias.name}" for alias in node.names} & set(modules)
                ahead[name] |= inner or {node.module}
    done, trail = set(), []

    def visit(name):
        assert name not in trail, f"a circle: {' > '.join([*trail[trail.index(name) :], name])}"
        if name not in done:
            trail.append(name)
            for other in ahead[name]:
                visit(other)
            done.add(trail.pop())

    for name in ahead:
        visit(name)


def test_a_class_has_a_name_of_its_own():
    found = {}
    for path in (ROOT / "src/saltanvil").rglob("*.py"):
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef):
                assert node.name not in found, f"{node.name}: {path} and {found[node.name]}"
                found[node.name] = path
    assert len(found) > 300


#: Participles that hide what they stand for (the nouns of the field say it).
NO_NOUNS = {"held", "made", "found", "told", "asked", "given"}


def test_a_variable_is_called_by_a_noun():
    for path in (ROOT / "src/saltanvil").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            name = node.arg if isinstance(node, ast.arg) else node.id if isinstance(node, ast.Name) else ""
            assert name.strip("_") not in NO_NOUNS, f"{name}: {path}:{node.lineno}"


#: Made by a tool; and the scores of the demo, which are read as tables.
LONG = {"web/src/lib/api/schema.d.ts", "src/saltanvil/demo/low_water.py"}


def test_no_file_of_product_code_is_longer_than_four_hundred_lines():
    ends = (".py", ".ts", ".svelte", ".css")
    files = [path for folder in ("src/saltanvil", "web/src") for path in (ROOT / folder).rglob("*") if path.suffix in ends]
    files = [path for path in files if "page" not in path.relative_to(ROOT).parts]  # the page as it was built
    assert len(files) > 300
    for path in files:
        name = path.relative_to(ROOT).as_posix()
        assert name in LONG or len(path.read_text().split("\n")) <= 401, name

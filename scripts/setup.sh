# Shared by ./start and ./test: the environment, the page, the compiled kernels. Each is made anew only when its
# sources changed. Sourced, not run.

root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
venv=$root/.venv
say() { printf '%s\n' "$*"; }

need() {
  command -v "$1" >/dev/null 2>&1 || { say "$1 is missing; install $2 and run this again." >&2; exit 1; }
}

digest() { cat "$@" 2>/dev/null | sha256sum | cut -d' ' -f1; }

make_environment() { # $1: requirements file
  local python stamp
  python=$(command -v python3.11 || command -v python3) || need python3 "Python 3.11"
  "$python" -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' || { say "Python 3.11 is needed." >&2; exit 1; }
  stamp="$root $1 $(digest "$root/$1" "$root/pyproject.toml")"
  [ -f "$venv/stamp" ] && [ "$(cat "$venv/stamp")" = "$stamp" ] && return
  # An environment made for the tests serves ./start as well.
  if [ "$1" = requirements.txt ] && [ -f "$venv/stamp" ] \
    && [ "$(cat "$venv/stamp")" = "$root requirements-test.txt $(digest "$root/requirements-test.txt" "$root/pyproject.toml")" ]; then
    return
  fi
  say "Installing the Python packages ..."
  "$python" -m venv --clear "$venv"
  "$venv/bin/python" -m pip install --quiet --disable-pip-version-check "uv==$(cat "$root/scripts/uv-version")"
  # Compiled now, whatever the environment says of bytecode: reading the sources anew takes half of every start.
  "$venv/bin/uv" pip install --quiet --compile-bytecode --python "$venv/bin/python" -r "$root/$1"
  "$venv/bin/uv" pip install --quiet --python "$venv/bin/python" --no-deps -e "$root"
  printf '%s' "$stamp" >"$venv/stamp"
}

page_sources() {
  find "$root/web" -type f -not -path '*/node_modules/*' -print0 | sort -z | xargs -0 cat | sha256sum | cut -d' ' -f1
}

install_page_packages() {
  local stamp
  need node "Node 20"
  stamp=$(digest "$root/web/package-lock.json" "$root/web/package.json")
  [ -f "$root/web/node_modules/.stamp" ] && [ "$(cat "$root/web/node_modules/.stamp")" = "$stamp" ] && return
  say "Installing the page's packages ..."
  (cd "$root/web" && npm ci --no-audit --no-fund --loglevel=error)
  printf '%s' "$stamp" >"$root/web/node_modules/.stamp"
}

build_page() {
  local stamp
  stamp=$(page_sources)
  [ -f "$root/src/saltanvil/page/.stamp" ] && [ "$(cat "$root/src/saltanvil/page/.stamp")" = "$stamp" ] && return
  install_page_packages
  say "Building the page ..."
  (cd "$root/web" && npx --no-install vite build --logLevel warn)
  printf '%s' "$stamp" >"$root/src/saltanvil/page/.stamp"
}

compile_kernels() {
  # A changed helper does not invalidate the kernels that use it, so all are compiled anew when any source changed.
  local stamp
  stamp=$(cat "$root"/src/saltanvil/dsp/*.py "$root"/src/saltanvil/demo/synth.py | sha256sum | cut -d' ' -f1)
  [ -f "$venv/kernels" ] && [ "$(cat "$venv/kernels")" = "$stamp" ] && return
  say "Compiling the kernels (a minute, once) ..."
  find "$root/src" -name '*.nb[ic]' -delete
  "$venv/bin/python" -m compileall -q "$root/src"
  "$venv/bin/python" "$root/scripts/compile-kernels"
  printf '%s' "$stamp" >"$venv/kernels"
}

#!/usr/bin/env bash
# Installs what is missing: Debian's packages, then the virtual environment from the lock file.
# Works as root, and as an ordinary user with sudo; does nothing where nothing is missing.
set -euo pipefail
cd "$(dirname "$0")/.."
# Called from within the environment it is about to replace, the interpreter must be another one.
PATH=$(printf %s "$PATH" | tr ':' '\n' | grep -vxF "$PWD/.venv/bin" | paste -sd: -)

fail() {
  echo "anaxis: $1" >&2
  exit 2
}

# 1. Debian's packages.
missing=()
command -v python3.11 >/dev/null || missing+=(python3.11)
if ! python3.11 -c 'import ensurepip' 2>/dev/null; then missing+=(python3.11-venv); fi
if ! ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1; then missing+=(postgresql); fi
command -v chromium-headless-shell >/dev/null || missing+=(chromium-headless-shell)
# The printed sheet is laid out by Pango.
have() { ldconfig -p | grep -q "$1" || ls /usr/lib/*/"$1"* >/dev/null 2>&1; }
PATH="$PATH:/usr/sbin:/sbin" have libpangoft2-1.0.so.0 || missing+=(libpangoft2-1.0-0)
PATH="$PATH:/usr/sbin:/sbin" have libharfbuzz-subset.so.0 || missing+=(libharfbuzz-subset0)
# An outside reader of the tests.
PATH="$PATH:/usr/sbin:/sbin" have libassimp.so.5 || missing+=(libassimp5)
command -v setpriv >/dev/null || missing+=(util-linux)
# The checks of the pages' scripts; nothing of it is needed to run Anaxis.
if [ "${1:-}" = checks ]; then
  command -v node >/dev/null || missing+=(nodejs)
  command -v npm >/dev/null || missing+=(npm)
fi
if [ ${#missing[@]} -gt 0 ]; then
  echo "Step 1 of 2: installing Debian's packages ${missing[*]}…"
  as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || fail "${missing[*]} must be installed and sudo is missing: run 'apt-get install ${missing[*]}' as root."
    as_root=(sudo)
  fi
  log=$(mktemp)
  quiet=(env DEBIAN_FRONTEND=noninteractive)
  if ! { "${as_root[@]}" "${quiet[@]}" apt-get update -qq && "${as_root[@]}" "${quiet[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}"; } >>"$log" 2>&1; then
    tail -n 5 "$log" >&2
    fail "${missing[*]} could not be installed: run 'apt-get install ${missing[*]}' as root and see what it says."
  fi
  rm -f "$log"
fi

install_anaxis() {
  .venv/bin/pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e . &&
    sha256sum <pyproject.toml >.venv/installed-from
}

# 2. The virtual environment, made again when the lock file changes. Two set-ups at once take turns.
mkdir -p var
exec 9>var/setup.lock
flock 9
# Installs the packages of some lock files, and says how far this is.
install_locked() {
  local log packages
  packages=$(cat "$@" | grep -c '^[a-zA-Z].*==')
  log=$(mktemp)
  # A line for every twentieth package.
  progress() {
    tee -a "$log" | awk -v all="$packages" '/^Collecting /{ if (++n % 20 == 0) { print "  " n " of " all " packages fetched"; fflush() } }
      /^Installing collected/{ print "  all fetched; installing them…"; fflush() }' >&3
  }
  exec 3>&1
  if ! { .venv/bin/pip install --progress-bar off --disable-pip-version-check --require-hashes "${@/#/-r}" 2>>"$log" | progress; } >>"$log" 2>&1; then
    tail -n 5 "$log" >&2
    fail "The Python packages could not be installed: check the network and run '.venv/bin/pip install ${*/#/-r }'."
  fi
  rm -f "$log"
}

wanted=$(sha256sum <requirements.lock | cut -d' ' -f1)
if [ "$(cat .venv/made-from 2>/dev/null)" != "$wanted" ] || ! .venv/bin/python -c 'import anaxis' 2>/dev/null; then
  echo "Step 2 of 2: setting up the virtual environment: $(grep -c '^[a-zA-Z].*==' requirements.lock) Python packages, about 1 GB, some minutes…"
  rm -rf .venv
  python3.11 -m venv .venv || fail "The virtual environment could not be made: run 'apt-get install python3.11-venv' as root."
  install_locked requirements.lock
  install_anaxis || fail "Anaxis could not be installed in .venv: run 'rm -r .venv' and try again."
  echo "$wanted" >.venv/made-from
elif [ "$(cat .venv/installed-from 2>/dev/null)" != "$(sha256sum <pyproject.toml)" ]; then
  install_anaxis || fail "Anaxis could not be installed in .venv: run 'rm -r .venv' and try again."
fi

# What tests and checks need beside: nothing of it is needed to run Anaxis.
if [ "${1:-}" = checks ]; then
  wanted=$(sha256sum <requirements-dev.lock | cut -d' ' -f1)
  if [ "$(cat .venv/tests-made-from 2>/dev/null)" != "$wanted" ]; then
    echo "Setting up what the tests need: $(grep -c '^[a-zA-Z].*==' requirements-dev.lock) more Python packages, about 1 GB, some minutes…"
    install_locked requirements.lock requirements-dev.lock
    echo "$wanted" >.venv/tests-made-from
  fi
fi

# 3. The linter of the pages' scripts and the readers of tests/outside, for the checks alone.
if [ "${1:-}" = checks ]; then
  wanted=$(cat package.json package-lock.json | sha256sum | cut -d' ' -f1)
  if [ "$(cat node_modules/made-from 2>/dev/null)" != "$wanted" ]; then
    echo "Setting up the linter of the scripts and the outside readers…"
    npm ci --silent --no-audit --no-fund || fail "They could not be installed: check the network and run 'npm ci'."
    echo "$wanted" >node_modules/made-from
  fi
fi

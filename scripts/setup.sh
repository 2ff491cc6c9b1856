# Sourced by what a person types in bin/: installs what is missing on a fresh Debian 12 machine, and builds.
# It does nothing that was done already.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
export NUXT_TELEMETRY_DISABLED=1
# Chunks of a megabyte come and go on several threads; more arenas would keep what each of them once needed.
export MALLOC_ARENA_MAX=2

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null; then sudo "$@"
  else echo "This needs root or sudo: $*" >&2; exit 1; fi
}

need_packages() {
  local missing=()
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql-15)
  for package in "$@"; do
    case $package in chromium) command -v chromium >/dev/null || missing+=(chromium) ;; esac
  done
  [ ${#missing[@]} = 0 ] && return
  echo "Installing ${missing[*]}"
  as_root apt-get update -qq
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

# Debian's own cluster client, for tests of the stand-in; beside the machine's, which may be another one.
need_kubectl() {
  [ -x .tools/usr/bin/kubectl ] && return
  echo "Fetching kubernetes-client"
  local place; place=$(mktemp -d)
  apt-cache show kubernetes-client >/dev/null 2>&1 || as_root apt-get update -qq
  (cd "$place" && apt-get download -qq kubernetes-client 2>/dev/null)
  dpkg -x "$place"/*.deb .tools
  rm -rf "$place"
}

# Prints one line that stands for the contents of the given files and folders.
sum_of() { find "$@" -type f -not -name '*.wasm.ts' -print0 | sort -z | xargs -0 sha256sum | sha256sum; }

need_modules() {
  local now; now=$(sum_of package.json package-lock.json)
  [ -f node_modules/.installed ] && [ "$(cat node_modules/.installed)" = "$now" ] && return
  echo "Installing the packages of package-lock.json"
  npm ci --no-audit --no-fund --loglevel=error
  echo "$now" > node_modules/.installed
}

need_build() {
  local now; now=$(sum_of core engine server app demo bench standins scripts public nuxt.config.ts package-lock.json)
  [ -f .output/.built ] && [ -f dist/pool-worker.mjs ] && [ "$(cat .output/.built)" = "$now" ] && return
  echo "Building"
  local log; log=$(mktemp)
  npm run build > "$log" 2>&1 || { cat "$log" >&2; exit 1; }
  rm -f "$log"
  echo "$now" > .output/.built
}

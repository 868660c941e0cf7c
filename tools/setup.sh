# What ./start and ./test need before they can begin; sourced by both. Says plainly what is missing; never calls sudo.

fail() { printf '\n%s\n' "$*" >&2; exit 1; }

need_node() {
  command -v node >/dev/null || fail 'Node.js is missing. Install version 20.19 or later, then start again.'
  node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' ||
    fail "Node.js $(node -v) is too old: version 20.19 or later is needed."
}

# npm packages, again only when the lock file has changed
need_packages() {
  local have=node_modules/.lock-of-install
  cmp -s package-lock.json "$have" && return
  echo 'Installing npm packages …'
  npm ci --no-audit --no-fund --loglevel=error || fail 'The npm packages could not be installed; see above. Is there a way to the package registry?'
  cp package-lock.json "$have"
}

# need_debian COMMAND PACKAGE: a program from Debian's packages
need_debian() {
  command -v "$1" >/dev/null && return
  [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || fail "$1 is missing. Install it once with:  sudo apt-get install $2"
  echo "Installing $2 from Debian’s packages …"
  [ -n "${apt_updated:-}" ] || { apt-get update -qq; apt_updated=1; }
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$2" >/dev/null || fail "$2 could not be installed; see above."
}

# built again only when a source is newer than the last build
need_build() {
  local stamp=.build/built
  if [ ! -f "$stamp" ] || [ -n "$(find core contract scanners threads server web demo bench cli tools package-lock.json -newer "$stamp" -type f -not -path '*/node_modules/*' -not -path '*/dist/*' -print -quit)" ]; then
    echo 'Building …'
    node tools/build.mjs
    npm run --silent build:web
    touch "$stamp"
  fi
}

# Sourced by each start.sh. What a server needs is installed if it is missing, below CACHE
# or by the system's package manager; if it cannot be, the script ends with 77 and says
# what was missing.

lack() {
  echo "$1" >&2
  exit 77
}

# have_npm PACKAGE...: node with packages; NODE_PATH leads to them.
have_npm() {
  command -v npm >/dev/null || lack "there is no npm"
  for package in "$@"; do
    [ -d "$CACHE/node/node_modules/${package%@*}" ] && continue
    mkdir -p "$CACHE/node" && (cd "$CACHE/node" && npm install --silent "$package" >/dev/null 2>&1) ||
      lack "npm could not install $package"
  done
  export NODE_PATH="$CACHE/node/node_modules"
}

# have_command COMMAND PACKAGE: a program of the system's.
have_command() {
  command -v "$1" >/dev/null || install "$2"
  command -v "$1" >/dev/null || lack "there is no $1, and the system's packages could not give it"
}

# have_python MODULES PACKAGE...: sets python to one that can import the modules.
have_python() {
  modules=$1
  shift
  for again in no yes; do
    for python in python3 /usr/bin/python3; do
      "$python" -c "import $modules" 2>/dev/null && return
    done
    [ "$again" = no ] && install "$@"
  done
  lack "python has no $modules, and the system's packages could not give it"
}

# go_server NAME PACKAGE@VERSION: the server in HERE, built with a package; it is ./NAME then.
go_server() {
  have_command go golang
  mkdir -p "$CACHE/$1" && cp "$HERE/server.go.txt" "$CACHE/$1/main.go" && cd "$CACHE/$1" || exit 77
  [ -f go.mod ] || go mod init "$1" >/dev/null 2>&1
  go get "$2" >/dev/null 2>&1 && go build -o "$1" . || lack "go could not get $2"
}

install() {
  [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || return 0
  DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends "$@" >/dev/null 2>&1 ||
    { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends "$@"; } >/dev/null 2>&1
  return 0
}

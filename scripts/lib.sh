# What the scripts share: Debian's packages, cargo, a PostgreSQL cluster of our own.
# Sourced, not run. Needs bash.

say() { printf '%s\n' "$*" >&2; }
die() { say "$*"; exit 1; }

root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null && sudo -n true 2>/dev/null; then sudo "$@"
  elif command -v sudo >/dev/null && [ -t 0 ]; then sudo "$@"
  else return 97; fi
}

# install NAME PACKAGE…: installs Debian packages when the command NAME is not there.
install() {
  local name=$1; shift
  have "$name" && return 0
  command -v apt-get >/dev/null || die "Baricord needs: $*. This is not a Debian machine: install them by hand."
  say "Installing $* …"
  root apt-get update -qq >/dev/null 2>&1
  root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1 ||
    die "Baricord needs the Debian packages $* — install them as root: apt-get install $*"
}

have() {
  case $1 in
    postgres) [ -n "$(pg_bin)" ] ;;
    *) command -v "$1" >/dev/null ;;
  esac
}

pg_bin() { ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -n 1; }

# A cargo that is recent enough: the one on the path, else Debian's.
find_cargo() {
  [ -d "$HOME/.cargo/bin" ] && PATH="$HOME/.cargo/bin:$PATH"
  install cc gcc libc6-dev
  if ! cargo_ok; then
    command -v rustup >/dev/null && die "Baricord needs Rust 1.88 or later: run rustup update."
    say "Installing Rust from Debian …"
    root apt-get update -qq >/dev/null 2>&1
    root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends rustc-web cargo-web rustfmt-web >/dev/null 2>&1
    cargo_ok || die "Baricord needs Rust 1.88 or later: install the Debian packages rustc-web and cargo-web, or rustup."
  fi
  export PATH
}
cargo_ok() {
  local v; v=$(rustc --version 2>/dev/null | sed -n 's/^rustc 1\.\([0-9]*\).*/\1/p')
  [ -n "$v" ] && [ "$v" -ge 88 ] && command -v cargo >/dev/null
}

# PostgreSQL refuses root: then it runs as postgres.
as_pg() { if [ "$(id -u)" = 0 ]; then (cd / && runuser -u postgres -- "$@"); else "$@"; fi; }

free_port() {
  local p
  for p in $(seq "$1" $(($1 + 200))); do
    (exec 3<>"/dev/tcp/127.0.0.1/$p") 2>/dev/null || { echo "$p"; return; }
    exec 3>&- 2>/dev/null
  done
  die "No free port from $1 on."
}

# pg_start DIR [fast]: makes a cluster in DIR when there is none, and starts it on a free loopback
# port. Sets PG_PORT, PG_DIR. A stale lock of a crashed run is cleared.
pg_start() {
  PG_DIR=$1
  local bin opts="" ; bin=$(pg_bin)
  [ -n "$bin" ] || die "PostgreSQL is not there: apt-get install postgresql"
  if [ ! -s "$PG_DIR/data/PG_VERSION" ]; then
    mkdir -p "$PG_DIR"; rm -rf "$PG_DIR/data"
    [ "$(id -u)" = 0 ] && chown postgres "$PG_DIR" && chmod 755 "$PG_DIR"
    as_pg "$bin/initdb" -D "$PG_DIR/data" -U baricord_owner -A trust -E UTF8 --locale=C.UTF-8 --no-sync >"$PG_DIR/initdb.log" 2>&1 ||
      { cat "$PG_DIR/initdb.log" >&2; die "The database cluster could not be made in $PG_DIR."; }
  fi
  if as_pg "$bin/pg_ctl" -D "$PG_DIR/data" status >/dev/null 2>&1; then
    PG_PORT=$(sed -n 4p "$PG_DIR/data/postmaster.pid" 2>/dev/null || as_pg sed -n 4p "$PG_DIR/data/postmaster.pid")
    if as_pg "$bin/pg_isready" -q -h 127.0.0.1 -p "$PG_PORT"; then return; fi
    as_pg "$bin/pg_ctl" -D "$PG_DIR/data" -m immediate stop >/dev/null 2>&1
  fi
  rm -f "$PG_DIR/data/postmaster.pid" 2>/dev/null
  PG_PORT=$(free_port 54320)
  [ "${2:-}" = fast ] && opts="-c fsync=off -c synchronous_commit=off -c full_page_writes=off"
  as_pg "$bin/pg_ctl" -D "$PG_DIR/data" -w -t 60 -l "$PG_DIR/data/server.log" \
    -o "-p $PG_PORT -c listen_addresses=127.0.0.1 -c max_connections=200 -k $PG_DIR $opts" start >/dev/null ||
    { tail -n 20 "$PG_DIR/data/server.log" >&2; die "The database did not start; its log is $PG_DIR/data/server.log."; }
}

pg_stop() { as_pg "$(pg_bin)/pg_ctl" -D "$PG_DIR/data" -m fast stop >/dev/null 2>&1; }

# A folder that the user postgres can reach: not below a closed home.
pg_home() {
  if [ "$(id -u)" = 0 ]; then echo "/var/lib/baricord/$1"; else echo "${XDG_DATA_HOME:-$HOME/.local/share}/baricord/$1"; fi
}

# Shared by ./start, ./test and the scripts: messages, packages, a private PostgreSQL cluster.
# Sourced with bash; the caller has set -euo pipefail and stands in the project's root.

root=$(pwd)
local_dir="$root/.local"

say() { printf '%s\n' "$*" >&2; }
fail() { say "$@"; exit 1; }

# need_debian PACKAGE…: installs what is missing, or says what to do.
need_debian() {
  local missing=()
  for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  command -v apt-get >/dev/null || fail "Please install: ${missing[*]}"
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    sudo -n true 2>/dev/null || fail "Missing: ${missing[*]}. Install them with: sudo apt-get install ${missing[*]}"
    as_root=(sudo)
  fi
  say "Installing ${missing[*]} …"
  "${as_root[@]}" apt-get update -qq >&2 || say "The package lists could not be refreshed; trying with those at hand."
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2 \
    || fail "Could not install ${missing[*]}. Install them by hand and run this again."
}

# need_cargo: a Cargo that is new enough.
need_cargo() {
  [ -f "$HOME/.cargo/env" ] && ! command -v cargo >/dev/null && . "$HOME/.cargo/env"
  command -v cargo >/dev/null || fail "Cargo is missing. Install Rust $rust_needed or later (rustup.rs), open a new shell and run this again."
  local have
  have=$(rustc --version | awk '{print $2}')
  if [ "$(printf '%s\n%s\n' "$rust_needed" "$have" | sort -V | head -1)" != "$rust_needed" ]; then
    fail "Rust $have is too old; $rust_needed or later is needed. Run: rustup update stable"
  fi
}
rust_needed=$(sed -n 's/^rust-version = "\(.*\)"/\1/p' "$root/Cargo.toml" | head -1)

# token_key: the key that seals the tokens of channels, made once; sets GOLD_TILLER_KEY_FILE.
token_key() {
  mkdir -p "$local_dir"
  GOLD_TILLER_KEY_FILE=$local_dir/key
  export GOLD_TILLER_KEY_FILE
  [ -s "$GOLD_TILLER_KEY_FILE" ] || (umask 077; head -c 32 /dev/urandom | base64 > "$GOLD_TILLER_KEY_FILE")
}

# free_port FROM: the first port from FROM on that nothing listens on.
free_port() {
  local port=$1
  while (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; do port=$((port + 1)); done
  echo "$port"
}

# wait_for PID PORT NAME: until the program takes connections, or has ended.
wait_for() {
  until (exec 3<>"/dev/tcp/127.0.0.1/$2") 2>/dev/null; do
    kill -0 "$1" 2>/dev/null || fail "$3 did not start; see the message above."
    read -rt 0.1 <> <(:) || true
  done
}

pg_bin() {
  local newest
  newest=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -1)
  if [ -n "$newest" ] && [ -x "$newest/initdb" ]; then echo "$newest"; fi
}

# PostgreSQL refuses to run as root: then it runs as the account of Debian's package.
as_pg() {
  if [ "$(id -u)" -eq 0 ]; then (cd / && setpriv --reuid=postgres --regid=postgres --init-groups "$@"); else "$@"; fi
}

# Where clusters live: .local/, unless the database's account can't reach it (a clone under /root).
cluster_home() {
  mkdir -p "$local_dir"
  if as_pg test -x "$local_dir" 2>/dev/null; then echo "$local_dir"; return; fi
  local aside
  aside="/var/tmp/gold-tiller-$(printf '%s' "$root" | cksum | cut -d' ' -f1)"
  mkdir -p "$aside"
  echo "$aside"
}

# database_answers DIR: whether the cluster there takes connections.
database_answers() {
  local port
  port=$(sed -n 4p "$1/data/postmaster.pid" 2>/dev/null) && [ -n "$port" ] || return 1
  "$(pg_bin)/pg_isready" -q -h 127.0.0.1 -p "$port"
}

# forget_dead_server PIDFILE: removes what a server left behind that was killed hard, even if its number
# lives on as a zombie or as another program.
forget_dead_server() {
  local pid
  pid=$(head -1 "$1" 2>/dev/null) && [ -n "$pid" ] || return 0
  if [ ! -d "/proc/$pid" ] || grep -q '^State:[[:space:]]*Z' "/proc/$pid/status" 2>/dev/null || [ "$(cat "/proc/$pid/comm" 2>/dev/null)" != postgres ]; then
    rm -f "$1"
  fi
}

# database_up NAME [SETTING…]: starts the cluster .local/NAME and sets database_url, database_started.
database_up() {
  local dir bin name=$1
  shift
  [ -n "$(pg_bin)" ] || need_debian postgresql
  bin=$(pg_bin)
  [ -n "$bin" ] || fail "PostgreSQL's server programs were not found under /usr/lib/postgresql."
  dir="$(cluster_home)/$name"
  if [ ! -f "$dir/ready" ]; then
    # Made aside and moved into place, so that a half-made cluster is never used.
    rm -rf "$dir" "$dir.new"
    mkdir -p "$dir.new"
    (umask 077; head -c 24 /dev/urandom | base64 | tr -d '/+=\n' > "$dir.new/password")
    [ "$(id -u)" -eq 0 ] && chown -R postgres "$dir.new"
    as_pg "$bin/initdb" -D "$dir.new/data" -U tiller --pwfile="$dir.new/password" --auth=scram-sha-256 \
      --encoding=UTF8 --locale=C.UTF-8 >"$local_dir/$name-init.log" 2>&1 || fail "PostgreSQL could not make its data directory; see $local_dir/$name-init.log"
    touch "$dir.new/ready"
    mv "$dir.new" "$dir"
  fi
  database_started=no
  if ! database_answers "$dir"; then
    local port options="-c listen_addresses=127.0.0.1 -c unix_socket_directories="
    for setting in "$@"; do options="$options -c $setting"; done
    for attempt in 1 2 3 4 5; do
      forget_dead_server "$dir/data/postmaster.pid"
      port=$(free_port 5480)
      as_pg "$bin/pg_ctl" start -w -t 60 -D "$dir/data" -l "$dir/server.log" -o "-p $port $options" >/dev/null 2>&1 && break
      # Processes of a server that was killed hard may still be leaving.
      [ "$attempt" -lt 5 ] || fail "PostgreSQL did not start; see $dir/server.log"
      sleep 1
    done
    database_started=yes
  fi
  local port
  port=$(sed -n 4p "$dir/data/postmaster.pid")
  database_admin="postgres://tiller:$(cat "$dir/password")@127.0.0.1:$port/postgres"
  database_url="postgres://tiller:$(cat "$dir/password")@127.0.0.1:$port/gold_tiller"
  psql -qAt "$database_admin" -c "SELECT 1 FROM pg_database WHERE datname = 'gold_tiller'" | grep -q 1 \
    || psql -qAt "$database_admin" -c 'CREATE DATABASE gold_tiller'
}

# database_down NAME
database_down() {
  local bin
  bin=$(pg_bin)
  as_pg "$bin/pg_ctl" stop -D "$(cluster_home)/$1/data" -m fast >/dev/null 2>&1 || true
}

# database_remove NAME
database_remove() {
  database_down "$1"
  rm -rf "$(cluster_home)/${1:?}"
}

# Shared by the commands of bin/; sourced, not run. Expects $root. Every step prints one line and does nothing when done before.
# DIDACTOR_STATE moves everything the project keeps on this machine (default: var/ in the checkout).
: "${root:?setup.sh is sourced by the commands beside it}"
STATE="${DIDACTOR_STATE:-$root/var}"
VENV="$STATE/venv"
export DIDACTOR_STATE="$STATE"
mkdir -p "$STATE"

say() { printf '%s\n' "$*"; }
fail() { printf '\n%s\n' "$*" >&2; exit 1; }

# step "what" command...: runs quietly, prints the seconds; on failure shows the end of what the command said.
step() {
  local what=$1 log start; shift
  log=$(mktemp); start=$(date +%s.%N)
  printf '  %-44s' "$what"
  if "$@" >"$log" 2>&1; then
    awk -v a="$start" -v b="$(date +%s.%N)" 'BEGIN { printf "%6.1f s\n", b - a }'
    rm -f "$log"
  else
    printf 'failed\n\n'; tail -n 25 "$log" >&2; rm -f "$log"
    fail "“$what” did not work; see above. Mend it and run the same command again: it goes on where it stopped."
  fi
}

# --- Debian packages -----------------------------------------------------------------------------------------------

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null; then sudo "$@"
  else say "This needs root: run once as root or as a user with sudo."; return 1; fi
}

missing_packages() {
  local package
  for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || printf '%s ' "$package"
  done
}

# Programs that are there by other means than Debian's packages count as there.
needed_packages() {
  { command -v python3 >/dev/null && python3 -c 'import sys, venv, ensurepip; assert sys.version_info >= (3, 11)'; } 2>/dev/null || printf 'python3 python3-venv '
  command -v npm >/dev/null || printf 'nodejs npm '
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || printf 'postgresql '
  command -v fluidsynth >/dev/null || printf 'fluidsynth '
  [ -e /usr/share/sounds/sf2/TimGM6mb.sf2 ] || printf 'timgm6mb-soundfont '
  [ -e /etc/ssl/certs/ca-certificates.crt ] || printf 'ca-certificates '
  command -v flock >/dev/null || printf 'util-linux '
  command -v rubberband >/dev/null || printf 'rubberband-cli '
  ls /usr/lib/*/libpangoft2-1.0.so.0 >/dev/null 2>&1 || printf 'libpango-1.0-0 libpangoft2-1.0-0 '
  ls /usr/lib/*/libharfbuzz-subset.so.0 >/dev/null 2>&1 || printf 'libharfbuzz-subset0 '
  command -v espeak-ng >/dev/null || printf 'espeak-ng '
  command -v msgfmt >/dev/null && command -v xgettext >/dev/null || printf 'gettext '
}

install_packages() {
  # No system database cluster may appear: the project keeps its own.
  if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
    as_root mkdir -p /etc/postgresql-common
    echo 'create_main_cluster = false' | as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
  fi
  as_root env DEBIAN_FRONTEND=noninteractive apt-get update -qq
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@"
}

ensure_packages() {
  local wanted; wanted="$(needed_packages) $(missing_packages "$@")"
  # shellcheck disable=SC2086
  if [ -n "${wanted// /}" ]; then step "Debian packages:$(printf '%.28s' " $wanted")" install_packages $wanted; fi
}

# --- Python and browser packages -----------------------------------------------------------------------------------

stamp_of() { cat "$@" | sha256sum | cut -d' ' -f1; }
is_fresh() { [ -e "$STATE/stamps/$1" ] && [ "$(cat "$STATE/stamps/$1")" = "$2" ]; }
mark_fresh() { mkdir -p "$STATE/stamps"; printf '%s' "$2" >"$STATE/stamps/$1"; }

install_python() {
  [ -x "$VENV/bin/python" ] || python3 -m venv "$VENV"
  "$VENV/bin/python" -m pip install --quiet --disable-pip-version-check --no-warn-script-location -r "$1"
  "$VENV/bin/python" -m pip install --quiet --disable-pip-version-check --no-warn-script-location --no-deps -r "$root/requirements/models.txt"
}

# ensure_python [runtime|dev|bench]: the virtual environment with what the lock file names; the larger sets contain the smaller ones.
ensure_python() {
  local name=${1:-runtime} larger
  for larger in bench dev runtime; do
    if is_fresh "python-$larger" "$(python_stamp "$larger")" && [ -x "$VENV/bin/python" ]; then return; fi
    [ "$larger" = "$name" ] && break
  done
  step "Python packages" install_python "$root/requirements/$name.txt"
  mark_fresh "python-$name" "$(python_stamp "$name")"
}

python_stamp() { stamp_of "$root/requirements/$1.txt" "$root/requirements/models.txt"; }

install_browser() {
  (cd "$root" && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error)
}

ensure_browser_packages() {
  local stamp; stamp=$(stamp_of "$root/package-lock.json")
  if is_fresh npm "$stamp" && [ -d "$root/node_modules" ]; then return; fi
  step "Browser packages" install_browser
  mark_fresh npm "$stamp"
}

ensure_static() {
  local stamp
  stamp=$( { find "$root/didactor/static" "$root/didactor"/*/static -type f -exec sha256sum {} + 2>/dev/null | sort; cat "$root/package-lock.json" "$root/bin/vendor_assets.py"; } | sha256sum | cut -d' ' -f1)
  if is_fresh static "$stamp" && [ -e "$STATE/static/staticfiles.json" ]; then return; fi
  step "Styles, scripts and fonts" collect_static
  mark_fresh static "$stamp"
}

# What is said in other languages, as programs read it.
ensure_messages() {
  local stamp; stamp=$(find "$root/didactor/locale" -name '*.po' -exec sha256sum {} + | sort | sha256sum | cut -d' ' -f1)
  if is_fresh messages "$stamp" && [ -e "$root/didactor/locale/de/LC_MESSAGES/django.mo" ]; then return; fi
  step "Languages" compile_messages
  mark_fresh messages "$stamp"
}

compile_messages() {
  (cd "$root/didactor" && "$VENV/bin/python" ../manage.py compilemessages --verbosity 0)
}

collect_static() {
  "$VENV/bin/python" "$root/bin/vendor_assets.py" && "$VENV/bin/python" "$root/manage.py" collectstatic --noinput --clear --ignore "django_htmx*"
}

# --- PostgreSQL: a private cluster on loopback ---------------------------------------------------------------------

pg_bin() { ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -n 1; }

# Root may not run the server: it belongs to the system user postgres then. $PG_AS runs a command as its owner.
pg_as() {
  if [ "$(id -u)" = 0 ]; then (cd / && runuser -u postgres -- "$@"); else (cd / && "$@"); fi
}

pg_home() {
  if [ -e "$STATE/postgres.path" ]; then cat "$STATE/postgres.path"; return; fi
  local home="${DIDACTOR_PG:-$STATE/postgres}"
  if [ "$(id -u)" = 0 ] && [ -z "${DIDACTOR_PG:-}" ] && ! runuser -u postgres -- test -x "$STATE" 2>/dev/null; then
    # The checkout lies in a folder that the system user postgres may not enter.
    home="/var/tmp/didactor-postgres-$(printf '%s' "$STATE" | sha256sum | cut -c1-12)"
  fi
  printf '%s' "$home" >"$STATE/postgres.path"
  printf '%s' "$home"
}

create_cluster() {
  local home=$1 secret
  secret=$(head -c 24 /dev/urandom | od -An -tx1 | tr -d ' \n')
  mkdir -p "$home"
  printf '%s' "$secret" >"$STATE/postgres.password"; chmod 600 "$STATE/postgres.password"
  printf '%s' "$secret" >"$home/pw"
  if [ "$(id -u)" = 0 ]; then chown -R postgres "$home"; fi
  chmod 700 "$home"
  pg_as "$(pg_bin)/initdb" -D "$home/data" -U didactor --auth=scram-sha-256 --pwfile="$home/pw" -E UTF8 --locale=C.UTF-8
  rm -f "$home/pw" "$STATE/stamps/migrations" "$STATE/stamps/demo"  # a new cluster is empty, whatever was in the one before
  { echo "listen_addresses = '127.0.0.1'"; echo "unix_socket_directories = ''"; echo "max_connections = 100"; } | pg_as tee -a "$home/data/postgresql.conf"
}

free_port() {
  python3 - "$1" <<'PY'
import socket, sys
port = int(sys.argv[1])
while True:
    with socket.socket() as probe:
        # A port whose last connections are just fading is free; one with a listener is not.
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            port += 1
            continue
    print(port)
    break
PY
}

pg_running() { pg_as "$(pg_bin)/pg_ctl" -D "$(pg_home)/data" status >/dev/null 2>&1; }

start_cluster() {
  local home=$1 port
  [ -d "$home/data/base" ] || create_cluster "$home"
  port=$(free_port "${DIDACTOR_PG_PORT:-5543}")
  pg_as "$(pg_bin)/pg_ctl" -D "$home/data" -w -t 60 -l "$home/log" -o "-p $port" start 9>&-
  printf '%s' "$port" >"$STATE/postgres.port"
  PGPASSWORD=$(cat "$STATE/postgres.password") "$(pg_bin)/createdb" -h 127.0.0.1 -p "$port" -U didactor didactor 2>/dev/null || true
}

# Sets PG_STARTED=1 when this call started the server, so that the caller knows whether to stop it.
ensure_postgres() {
  PG_STARTED=0
  if [ -d "$(pg_home)/data/base" ] && pg_running; then return; fi
  step "Database" start_cluster "$(pg_home)"
  PG_STARTED=1
}

stop_postgres() { pg_as "$(pg_bin)/pg_ctl" -D "$(pg_home)/data" -m fast -w stop >/dev/null 2>&1 || true; }

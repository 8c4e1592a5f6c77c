# Settings and helpers of ./start and ./test. Sourced, from the root of the checkout.
export SKEVIN_HOME="$(readlink -m "${SKEVIN_HOME:-.local}")"
export SKEVIN_PORT="${SKEVIN_PORT:-5180}"
export SKEVIN_OTLP_GRPC_PORT="${SKEVIN_OTLP_GRPC_PORT:-4317}"
export SKEVIN_PG_PORT="${SKEVIN_PG_PORT:-55432}"
export SKEVIN_PRACTICE_PORT="${SKEVIN_PRACTICE_PORT:-5190}"
export SKEVIN_DEMO_PASSWORD="${SKEVIN_DEMO_PASSWORD:-falling-clock}"
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1

# Debian packages that are missing: install_needed postgres chromium
install_needed() {
    local want=()
    for what in "$@"; do
        case "$what" in
            postgres) [ -x "$(echo /usr/lib/postgresql/*/bin/initdb | cut -d' ' -f1)" ] || want+=(postgresql) ;;
            chromium) command -v chromium >/dev/null || want+=(chromium) ;;
            kubectl) command -v kubectl >/dev/null || want+=(kubernetes-client) ;;
            tshark) command -v tshark >/dev/null || want+=(tshark) ;;
        esac
    done
    command -v curl >/dev/null || want+=(curl)
    [ ${#want[@]} -eq 0 ] && return
    [ "$(id -u)" = 0 ] || { echo "Please install these packages first: ${want[*]}" >&2; exit 1; }
    echo "Installing ${want[*]}"
    # Debian's package would start a database cluster of its own.
    mkdir -p /etc/postgresql-common
    grep -qs '^create_main_cluster' /etc/postgresql-common/createcluster.conf || echo 'create_main_cluster = false' >> /etc/postgresql-common/createcluster.conf
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${want[@]}" >/dev/null
}

# True where a file below the folders is newer than the stamp, or the stamp is missing.
changed_since() {
    local stamp=$1; shift
    [ ! -e "$stamp" ] || [ -n "$(find "$@" \( -name bin -o -name obj -o -name node_modules -o -name dist \) -prune -o -type f -newer "$stamp" -print -quit)" ]
}

web_packages() {
    [ web/node_modules/.package-lock.json -nt web/package-lock.json ] || { echo "Installing the page's packages"; npm --prefix web ci --no-audit --no-fund --silent; touch web/node_modules/.package-lock.json; }
}

build_all() {
    if [ ! -e web/dist/index.html ] || changed_since web/dist/index.html web; then
        web_packages
        echo "Building the page"
        npm --prefix web run --silent build
    fi
    local stamp=src/Skevin.Server/bin/Release/net10.0/.built
    if changed_since "$stamp" src Directory.Build.props Directory.Packages.props; then
        echo "Building the programs"
        for program in Server StandIn Command; do
            dotnet build "src/Skevin.$program" -c Release -v q --nologo > "$SKEVIN_HOME/log/build.log" 2>&1 || { cat "$SKEVIN_HOME/log/build.log" >&2; exit 1; }
        done
        touch "$stamp"
    fi
}

# Starts a part in the background and notes its process: run NAME COMMAND…
run() {
    local name=$1; shift
    "$@" >> "$SKEVIN_HOME/log/$name.log" 2>&1 &
    pids+=($!)
    echo $! > "$SKEVIN_HOME/run/$name.pid"
}

# Parts a killed ./start has left behind.
end_leftovers() {
    local file pid
    for file in "$SKEVIN_HOME"/run/*.pid; do
        [ -e "$file" ] || continue
        pid=$(cat "$file")
        if [ -d "/proc/$pid" ] && tr '\0' ' ' < "/proc/$pid/cmdline" | grep -q 'Skevin\.'; then
            echo "Ending $(basename "$file" .pid), left behind by an earlier start"
            kill -TERM "$pid"
            for _ in $(seq 100); do [ -d "/proc/$pid" ] || break; sleep 0.1; done
            kill -KILL "$pid" 2>/dev/null || true
        fi
        rm -f "$file"
    done
}

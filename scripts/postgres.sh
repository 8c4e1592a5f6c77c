# A PostgreSQL of one's own on loopback, run by an unprivileged user. Sourced after environment.sh.
postgres_bin() { ls -d /usr/lib/postgresql/*/bin | sort -V | tail -n 1; }

# Everybody on the machine can reach loopback, so even here there is a password.
postgres_password() {
    [ -s "$SKEVIN_HOME/postgres-password" ] || (umask 077 && head -c 24 /dev/urandom | base64 | tr -d '/+=\n' > "$SKEVIN_HOME/postgres-password")
    cat "$SKEVIN_HOME/postgres-password"
}

# initdb refuses root, and the unprivileged user must be able to reach the folder.
as_postgres() {
    if [ "$(id -u)" = 0 ]; then (cd / && runuser -u postgres -w PGPASSWORD -- "$@"); else "$@"; fi
}

postgres_folder() {
    local folder="$SKEVIN_HOME/postgres"
    if [ "$(id -u)" = 0 ] && ! as_postgres test -x "$SKEVIN_HOME"; then
        # Where the checkout lies in a closed folder, the database stands beside it in a place both can reach.
        folder="/var/tmp/skevin-postgres-$(printf %s "$SKEVIN_HOME" | sha256sum | cut -c1-12)"
    fi
    echo "$folder"
}

postgres_start() {
    local folder bin
    folder=$(postgres_folder)
    bin=$(postgres_bin)
    export PGPASSWORD="$(postgres_password)"
    if [ ! -f "$folder/data/PG_VERSION" ]; then
        echo "Making a PostgreSQL in $folder"
        rm -rf "$folder"
        mkdir -p "$folder"
        if [ "$(id -u)" = 0 ]; then chown postgres: "$folder"; fi
        printf '%s\n' "$PGPASSWORD" | as_postgres tee "$folder/pw" >/dev/null
        as_postgres "$bin/initdb" -D "$folder/data" -U skevin --auth=scram-sha-256 --pwfile="$folder/pw" --encoding=UTF8 --locale=C.UTF-8 >/dev/null
        rm -f "$folder/pw"
        printf "%s\n" "listen_addresses = '127.0.0.1'" "unix_socket_directories = ''" "shared_buffers = 256MB" "max_wal_size = 2GB" \
            "checkpoint_completion_target = 0.9" "wal_compression = on" | as_postgres tee -a "$folder/data/postgresql.conf" >/dev/null
    fi
    # A database that still runs after a kill is adopted, not fought.
    if ! as_postgres "$bin/pg_ctl" -D "$folder/data" status >/dev/null 2>&1; then
        as_postgres "$bin/pg_ctl" -D "$folder/data" -o "-p $SKEVIN_PG_PORT -c max_connections=300" -l "$folder/log" -w -t 60 start >/dev/null \
            || { echo "PostgreSQL does not start; its log:" >&2; tail -n 15 "$folder/log" >&2; exit 1; }
    fi
    as_postgres "$bin/psql" -w -h 127.0.0.1 -p "$SKEVIN_PG_PORT" -U skevin -d postgres -qAtc "select 1 from pg_database where datname = 'skevin'" | grep -q 1 \
        || as_postgres "$bin/createdb" -w -h 127.0.0.1 -p "$SKEVIN_PG_PORT" -U skevin skevin
    export SKEVIN_DATABASE="Host=127.0.0.1;Port=$SKEVIN_PG_PORT;Database=skevin;Username=skevin;Password=$PGPASSWORD"
    unset PGPASSWORD
}

postgres_stop() {
    as_postgres "$(postgres_bin)/pg_ctl" -D "$(postgres_folder)/data" -m fast -w stop >/dev/null 2>&1 || true
}

postgres_forget() {
    postgres_stop
    rm -rf "$(postgres_folder)" "$SKEVIN_HOME/postgres-password"
}

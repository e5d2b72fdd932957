#!/bin/sh
# Makes the database at the first start, and starts database and service. The database is the member's own; it stays in the workspace.
set -e
bin=$(ls -d /usr/lib/postgresql/*/bin)
if [ ! -d "$PGDATA" ]; then
    "$bin/initdb" --username=crew --auth=trust --no-instructions > /dev/null
    printf "unix_socket_directories = '/tmp'\nlisten_addresses = ''\n" >> "$PGDATA/postgresql.conf"
fi
"$bin/pg_ctl" --wait --silent --log="$PGDATA/log" start
if ! psql --quiet --tuples-only --command='select 1 from sailings limit 1' > /dev/null 2>&1; then
    createdb sailings
    psql --quiet --file=/code/sailings.sql
fi
trap '"$bin/pg_ctl" --wait --silent --mode=fast stop' EXIT
python3 /code/service.py "$@"

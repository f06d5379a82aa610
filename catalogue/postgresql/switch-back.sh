# Starts the old cluster again on its port and deletes the new one. Begun again after a cut, it goes on where it stopped.
set -eu
say() { echo "$1 $2" >>"$GS_PROGRESS"; echo "== $2"; }
clusters() { pg_lsclusters -h | awk '$2 == "main" { print $1, $4, $3 }'; }
old=$(clusters | awk -v to="$GS_TO" '$1 != to { print $1 }' | sort -n | tail -n 1)
[ -n "$old" ] || { echo "there is no cluster 'main' of an earlier version"; exit 1; }
rm -f "/var/lib/grandstair/postgresql-switched-to-$GS_TO"
if clusters | grep -q "^$GS_TO online"; then
    say 10 "stopping the new cluster"
    pg_ctlcluster "$GS_TO" main stop
fi
port=$(cat "/var/lib/grandstair/postgresql-port-$old")
say 30 "starting the cluster of PostgreSQL $old on port $port"
if clusters | grep -q "^$GS_TO " && [ "$(pg_conftool -s "$GS_TO" main show port)" = "$port" ]; then pg_conftool "$GS_TO" main set port "$((port + 1000))"; fi
pg_conftool "$old" main set port "$port"
echo auto >"/etc/postgresql/$old/main/start.conf"
clusters | grep -q "^$old online" || pg_ctlcluster "$old" main start
# Its databases were closed to applications when it was copied.
limits=/var/lib/grandstair/postgresql-limits
[ ! -f "$limits" ] || (cd / && su postgres -s /bin/sh -c "psql -X -q -v ON_ERROR_STOP=1 -p $port -d postgres") <"$limits"
if clusters | grep -q "^$GS_TO "; then
    say 80 "deleting the new cluster"
    pg_dropcluster "$GS_TO" main
fi
say 100 "PostgreSQL $old runs again"

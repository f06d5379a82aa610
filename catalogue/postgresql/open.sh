# Opens the databases to applications again, with the limits that they had.
set -eu
limits=/var/lib/grandstair/postgresql-limits
[ -f "$limits" ] || { echo "nothing was closed"; exit 0; }
port=$(pg_lsclusters -h | awk '$2 == "main" && $4 ~ /^online/ { print $3 }' | sort -n | head -n 1)
[ -n "$port" ] || { echo "no cluster 'main' is running"; exit 1; }
(cd / && su postgres -s /bin/sh -c "psql -X -q -v ON_ERROR_STOP=1 -p $port -d postgres") <"$limits"
echo "$(wc -l <"$limits") databases are open"

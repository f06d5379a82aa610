# Closes every database to applications: nobody but a superuser can connect until they are opened again. Who is connected is disconnected.
set -eu
port=$(pg_lsclusters -h | awk '$2 == "main" && $4 ~ /^online/ { print $3 }' | sort -n | head -n 1)
[ -n "$port" ] || { echo "no cluster 'main' is running"; exit 1; }
ask() { (cd / && su postgres -s /bin/sh -c "psql -X -A -t -q -v ON_ERROR_STOP=1 -p $port -d postgres -c \"$1\""); }
limits=/var/lib/grandstair/postgresql-limits
# Closed again after a cut, the limits of before are known already.
if [ -z "$(ask "SELECT 1 FROM pg_database WHERE datconnlimit = 0 LIMIT 1")" ]; then
    ask "SELECT format('ALTER DATABASE %I CONNECTION LIMIT %s;', datname, datconnlimit) FROM pg_database WHERE datallowconn AND datname <> 'template1'" >"$limits.new"
    mv "$limits.new" "$limits"
fi
sed 's/ CONNECTION LIMIT .*/ CONNECTION LIMIT 0;/' "$limits" | (cd / && su postgres -s /bin/sh -c "psql -X -q -v ON_ERROR_STOP=1 -p $port -d postgres")
ask "SELECT count(pg_terminate_backend(pid)) || ' connections of applications closed' FROM pg_stat_activity JOIN pg_roles ON rolname = usename WHERE backend_type = 'client backend' AND NOT rolsuper"

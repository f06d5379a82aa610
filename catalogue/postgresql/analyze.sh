# Gathers the statistics that the query planner needs; a new cluster has none.
set -eu
port=$(pg_lsclusters -h | awk '$2 == "main" && $4 ~ /^online/ { print $3 }' | sort -n | head -n 1)
cd /
su postgres -s /bin/sh -c "vacuumdb -p $port --all --analyze-in-stages"

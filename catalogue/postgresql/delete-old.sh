# Deletes the cluster that was kept as the rollback, if it is stopped.
set -eu
old=$(pg_lsclusters -h | awk -v to="$GS_TO" '$2 == "main" && $1 != to && $4 !~ /^online/ { print $1, $6 }' | sort -n | head -n 1)
[ -n "$old" ] || { echo "no stopped cluster of an earlier version is left"; exit 0; }
version=${old%% *} folder=${old#* }
size=$(du -s -B 1 "$folder" | cut -f 1)
pg_dropcluster "$version" main
rm -f "/var/lib/grandstair/postgresql-port-$version" "/var/lib/grandstair/postgresql-switched-to-$GS_TO"
echo "reclaimed $((size >> 20)) MiB"

# Writes a backup of all databases and roles, and reads it back to its last line.
set -eu
cluster=$(pg_lsclusters -h | awk '$2 == "main" && $4 ~ /^online/ { print $3, $1 }' | sort -n | head -n 1)
[ -n "$cluster" ] || { echo "no cluster 'main' is running"; exit 1; }
port=${cluster% *} version=${cluster#* }
folder=/var/backups/grandstair read_back=/var/lib/grandstair/postgresql-backup-read
umask 077
mkdir -p "$folder"
backup=$folder/postgresql-$version-main.sql.gz
echo "5 writing the backup" >>"$GS_PROGRESS"
rm -f "$read_back" "$backup.new"
{ (cd / && su postgres -s /bin/sh -c "pg_dumpall -p $port") || echo "pg_dumpall failed"; } | gzip >"$backup.new"
echo "80 reading the backup back" >>"$GS_PROGRESS"
gzip -t "$backup.new"
gzip -dc "$backup.new" | tail -n 5 | grep -q 'PostgreSQL database cluster dump complete' || { echo "the backup has no end"; exit 1; }
mv "$backup.new" "$backup"
sha256sum "$backup" >"$read_back"
echo "$(du -h "$backup" | cut -f 1) written to $backup and read back: $(cut -c 1-64 "$read_back")"

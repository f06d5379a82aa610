# Says how the PostgreSQL cluster 'main' stands. It changes nothing.
command -v pg_lsclusters >/dev/null || exit 0
# VERSION STATUS PORT of every cluster 'main', the one that takes connections on the lowest port last.
clusters=$(pg_lsclusters -h | awk '$2 == "main" { print $1, $4, $3 }')
[ -n "$clusters" ] || exit 0
echo "database.product = PostgreSQL"
online=$(printf '%s\n' "$clusters" | awk '$2 ~ /^online/' | sort -n -k 3 | head -n 1)
kept=$(printf '%s\n' "$clusters" | awk '$2 !~ /^online/ { print $1 "/main" }' | sort -n | head -n 1)
if [ -z "$online" ]; then
    for key in version build size space.lacking extensions.missing transactions.prepared replicas indexes.invalid connections.closed; do
        echo "database.$key is unreadable: no cluster 'main' is running; pg_lsclusters shows $(printf '%s\n' "$clusters" | paste -s -d ';')"
    done
else
    version=${online%% *} port=${online##* }
    if [ -n "$kept" ]; then echo "database.kept = $kept"; else echo "database.kept is absent"; fi
    ask() { (cd / && su postgres -s /bin/sh -c "psql -X -A -t -q -p $port -d '${2:-postgres}'") <<SQL
$1
SQL
    }
    # One line a key: the value, or why it could not be asked for.
    tell() { # KEY QUESTION UNIT
        if value=$(ask "$2" 2>&1); then echo "database.$1 = $value$3"; else echo "database.$1 is unreadable: $(printf '%s\n' "$value" | head -n 1)"; fi
    }
    list() { # KEY: the words on standard input with commas, or absent
        words=$(grep . | sort -u | head -n 40 | paste -s -d, -)
        if [ -n "$words" ]; then echo "database.$1 = $words"; else echo "database.$1 is absent"; fi
    }
    databases() { ask "SELECT datname FROM pg_database WHERE datallowconn AND datname <> 'template0' ORDER BY 1"; }

    echo "database.version = $version"
    tell build "SELECT split_part(current_setting('server_version'), ' ', 1)"
    tell size "SELECT sum(pg_database_size(oid)) FROM pg_database" " B"
    size=$(ask "SELECT sum(pg_database_size(oid)) FROM pg_database")
    free=$(df -P -B 1 /var/lib/postgresql | awk 'NR == 2 { print $4 }')
    lacking=$((size * 2 + 268435456 - free))
    [ "$lacking" -gt 0 ] || lacking=0
    echo "database.space.lacking = $lacking B"
    tell transactions.prepared "SELECT count(*) FROM pg_prepared_xacts"
    tell replicas "SELECT count(*) FROM pg_stat_replication"
    ask "SELECT datname FROM pg_database WHERE datconnlimit = 0" | list connections.closed
    newest=$(ls /usr/share/postgresql 2>/dev/null | grep -E '^[0-9]+$' | sort -n | tail -n 1)
    databases | while read -r database; do
        ask "SELECT extname FROM pg_extension" "$database" | while read -r extension; do
            [ -f "/usr/share/postgresql/$newest/extension/$extension.control" ] || echo "$extension"
        done
    done | list extensions.missing
    databases | while read -r database; do
        ask "SELECT format('%s.%s', current_database(), indexrelid::regclass) FROM pg_index WHERE NOT indisvalid" "$database"
    done | list indexes.invalid
fi

running=${version:-$(printf '%s\n' "$clusters" | awk '{ print $1 }' | sort -n | tail -n 1)}
available=no
for package in $(apt-cache pkgnames postgresql- | grep -E '^postgresql-[0-9]+$'); do
    [ "${package#postgresql-}" -gt "$running" ] && apt-cache policy "$package" | grep -q 'Candidate: [0-9]' && available=yes
done
echo "database.next.available = $available"
read_back=/var/lib/grandstair/postgresql-backup-read
if [ -f "$read_back" ]; then
    echo "backup.database = $(date -u -r "$read_back" +%Y-%m-%dT%H:%M:%SZ)"
else
    echo "backup.database is absent"
fi

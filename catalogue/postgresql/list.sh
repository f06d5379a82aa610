# Lists every table with a sum over all its rows, and the roles, extensions and settings, with a tab between kind, name and value.
set -eu
port=$(pg_lsclusters -h | awk '$2 == "main" && $4 ~ /^online/ { print $3 }' | sort -n | head -n 1)
[ -n "$port" ] || { echo "no cluster 'main' is running" >&2; exit 1; }
ask() { # QUESTION DATABASE
    (cd / && su postgres -s /bin/sh -c "psql -X -A -t -q -v ON_ERROR_STOP=1 -p $port -d '${2:-postgres}'") <<SQL
SET default_transaction_read_only = on;
SET statement_timeout = 0;
$1
SQL
}
tab=$(printf '\t')
ask "SELECT format(E'role\t%s\t%s', rolname, concat_ws(' ', CASE WHEN rolsuper THEN 'superuser' END, CASE WHEN rolcanlogin THEN 'login' END,
         CASE WHEN rolcreatedb THEN 'createdb' END, CASE WHEN rolcreaterole THEN 'createrole' END, CASE WHEN rolreplication THEN 'replication' END,
         nullif((SELECT 'in ' || string_agg(g.rolname, ',' ORDER BY g.rolname) FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid), '')))
     FROM pg_roles r ORDER BY rolname;"
ask "SELECT format(E'setting\t%s\t%s', name, setting) FROM pg_settings
     WHERE source = 'configuration file' AND name NOT IN ('config_file', 'data_directory', 'hba_file', 'ident_file', 'external_pid_file', 'cluster_name', 'port') ORDER BY name;"
ask "SELECT datname FROM pg_database WHERE datallowconn AND datname <> 'template0' ORDER BY 1;" | while read -r database; do
    ask "SELECT format(E'extension\t%s.%s\t%s', current_database(), extname, extversion) FROM pg_extension ORDER BY extname;" "$database"
    ask "SELECT format('%I.%I', schemaname, tablename) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1;" "$database" |
        while read -r table; do
            # The sum does not depend on the order in which rows come.
            sum=$(ask "SELECT count(*) || ' rows, ' || coalesce(sum(('x' || left(md5(t::text), 15))::bit(60)::bigint), 0) FROM $table t;" "$database")
            printf 'table%s%s%s%s%s\n' "$tab" "$database.$table" "$tab" "$sum" ""
        done
done

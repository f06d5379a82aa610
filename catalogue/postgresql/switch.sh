# Copies the cluster 'main' to one of the later version, which takes over its port. The old one stays, stopped. Begun again after a cut,
# it deletes what there is of the new one and copies the old one again, which nothing has changed.
set -eu
say() { echo "$1 $2" >>"$GS_PROGRESS"; echo "== $2"; }
clusters() { pg_lsclusters -h | awk '$2 == "main" { print $1, $4, $3 }'; }
done=/var/lib/grandstair/postgresql-switched-to-$GS_TO
old=$(clusters | awk -v to="$GS_TO" '$1 != to { print $1 }' | sort -n | tail -n 1)
[ -n "$old" ] || { echo "there is no cluster 'main' of an earlier version"; exit 1; }
if [ -f "$done" ] && clusters | grep -q "^$GS_TO online"; then
    say 100 "the cluster runs with PostgreSQL $GS_TO already"
    exit 0
fi
if clusters | grep -q "^$GS_TO "; then
    say 2 "deleting what an attempt before left of the new cluster"
    pg_dropcluster --stop "$GS_TO" main
fi
rm -f "$done"
saved=/var/lib/grandstair/postgresql-port-$old
[ -f "$saved" ] || clusters | awk -v old="$old" '$1 == old { print $3 }' >"$saved"
pg_conftool "$old" main set port "$(cat "$saved")"
echo auto >"/etc/postgresql/$old/main/start.conf"
clusters | grep -q "^$old online" || pg_ctlcluster "$old" main start
say 5 "copying the data from PostgreSQL $old to $GS_TO"
pg_upgradecluster -v "$GS_TO" "$old" main
say 95 "looking whether the new cluster takes connections"
(cd / && su postgres -s /bin/sh -c "psql -X -A -t -p $(cat "$saved") -d postgres -c 'SELECT version()'") | grep -F "PostgreSQL $GS_TO"
touch "$done"
say 100 "PostgreSQL $GS_TO has taken over; the cluster of $old is kept, stopped"

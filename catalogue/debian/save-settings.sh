# Saves what tells how the machine was, and what an upgrade may change.
set -eu
saved=/var/backups/grandstair
umask 077
mkdir -p "$saved"
dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package} ${Version}\n' >"$saved/packages"
dpkg --get-selections >"$saved/selections"
apt-mark showmanual >"$saved/chosen-by-hand"
# What was so before the upgrade: an attempt that comes after the system has the new release's version must not replace it.
if [ "$(. /etc/os-release && echo "$VERSION_ID")" != "$GS_TO" ] || [ -z "$(find "$saved/release" -mtime -30 2>/dev/null)" ]; then
    apt-mark showhold >"$saved/held"
    apt list --installed 2>/dev/null | awk -F / '/\[installed,local\]/ { print $1 }' >"$saved/foreign"
    (. /etc/os-release && echo "$VERSION_ID") >"$saved/release"
fi
# Services: what runs without a terminal and is nobody's session, by its program.
ps -e -o tty=,ppid=,comm= | awk '$1 == "?" && $2 == 1 { print $3 }' | sort -u >"$saved/services"
tar -C / -czf "$saved/etc.tar.gz.new" etc
gzip -t "$saved/etc.tar.gz.new"
mv "$saved/etc.tar.gz.new" "$saved/etc.tar.gz"
echo "saved $(wc -l <"$saved/packages") packages, $(wc -l <"$saved/services") services and /etc to $saved"

# Says how this Debian system stands. It changes nothing.
. /etc/os-release 2>/dev/null
[ "${ID:-}" = debian ] || exit 0
echo "os.product = Debian"
echo "os.version = ${VERSION_ID:-0}"
echo "os.build = $(cat /etc/debian_version)"
echo "boot.id = $(cat /proc/sys/kernel/random/boot_id)"
echo "hardware.memory = $(awk '/^MemTotal:/ { printf "%.0f B", $2 * 1024 }' /proc/meminfo)"

space() { df -P -B 1 "$1" 2>/dev/null | awk -v column="$2" 'NR == 2 { print $column " B" }'; }
archives=/var/cache/apt/archives
[ -d "$archives" ] || archives=/var/cache
echo "disk.system.free = $(space / 4)"
echo "disk.system.size = $(space / 2)"
echo "disk.archives.free = $(space "$archives" 4)"
echo "disk.system.kind = $(stat -f -c %T /)"
if [ -L /bin ] && [ -L /sbin ] && [ -L /lib ]; then echo "disk.usr.merged = yes"; else echo "disk.usr.merged = no"; fi

# One line a key for a list of words on stdin: the words with commas, or absent.
list() {
    words=$(sort -u | head -n 40 | paste -s -d, -)
    if [ -n "$words" ]; then echo "$1 = $words"; else echo "$1 is absent"; fi
}
instant() { date -u -d "@$1" +%Y-%m-%dT%H:%M:%SZ; }

if found=$(apt-get -s -o Debug::NoLocking=1 --with-new-pkgs upgrade 2>&1); then
    echo "packages.upgradable = $(printf '%s\n' "$found" | grep -c '^Inst ')"
else
    echo "packages.upgradable is unreadable: $(printf '%s\n' "$found" | grep '^E:' | head -n 1)"
fi
newest=$(find /var/lib/apt/lists -maxdepth 1 -name '*Release' -printf '%T@\n' 2>/dev/null | sort -n | tail -n 1 | cut -d . -f 1)
# A list that had not changed at its source keeps its old date; the folder tells when it was last asked for.
asked=$(stat -c %Y /var/lib/apt/lists/partial 2>/dev/null || echo 0)
if [ -n "$newest" ]; then
    [ "$asked" -gt "$newest" ] && newest=$asked
    echo "packages.lists.updated = $(instant "$newest")"
else
    echo "packages.lists.updated is absent"
fi
apt-mark showhold 2>/dev/null | list packages.held
{
    dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\n' | awk '$1 !~ /^[ihr][ic]$/ || $1 ~ /R$/ { print $2 }'
    dpkg --audit 2>/dev/null | awk '/^ [a-z0-9]/ { print $1 }'
} | list packages.unfinished
if apt-get -o Debug::NoLocking=1 check >/dev/null 2>&1; then echo "packages.consistent = yes"; else echo "packages.consistent = no"; fi

policy=$(apt-cache policy 2>/dev/null)
if [ -n "$newest" ]; then
    printf '%s\n' "$policy" | awk '
        /^ *-?[0-9]+ / { source = $2 }
        /^ *release / && $0 !~ /(^|[ ,])o=Debian(,|$)/ && source !~ /^\/var\/lib\/dpkg/ { print source }
    ' | list packages.sources.foreign
    # A source without a release file has no "release" line of its own; its file name still tells.
    apt list --installed 2>/dev/null | awk -F / '/\[installed,local\]/ { print $1 }' | list packages.foreign
else
    echo "packages.sources.foreign is unreadable: there are no package lists; run apt-get update"
    echo "packages.foreign is unreadable: there are no package lists; run apt-get update"
fi

holder=
for lock in /var/lib/dpkg/lock-frontend /var/lib/dpkg/lock /var/lib/apt/lists/lock; do
    inode=$(stat -c %i "$lock" 2>/dev/null) || continue
    pid=$(awk -v inode="$inode" '{ n = split($6, part, ":"); if (part[n] == inode) { print $5; exit } }' /proc/locks)
    [ -n "$pid" ] && holder=$(cat "/proc/$pid/comm" 2>/dev/null || echo "process $pid") && break
done
if [ -n "$holder" ]; then echo "packages.lock = $holder"; else echo "packages.lock is absent"; fi
find /etc -name '*.dpkg-dist' -o -name '*.dpkg-new' -o -name '*.ucf-dist' -o -name '*.ucf-new' 2>/dev/null | list packages.leftovers

denied=no
if [ -x /usr/sbin/policy-rc.d ]; then
    /usr/sbin/policy-rc.d ssh restart >/dev/null 2>&1
    [ $? -eq 101 ] && denied=yes
fi
if [ ! -d /run/systemd/system ] && ! runlevel 2>/dev/null | grep -q '[2-5]$'; then denied=yes; fi
echo "services.restart.denied = $denied"

saved=/var/backups/grandstair
if [ -f "$saved/services" ]; then
    ps -e -o comm= | sort -u >/tmp/grandstair-services.$$
    sort -u "$saved/services" | comm -23 - /tmp/grandstair-services.$$ | list services.missing
    rm -f /tmp/grandstair-services.$$
else
    echo "services.missing is absent"
fi
if [ -f "$saved/etc.tar.gz" ]; then echo "backup.settings = $(instant "$(stat -c %Y "$saved/etc.tar.gz")")"; else echo "backup.settings is absent"; fi

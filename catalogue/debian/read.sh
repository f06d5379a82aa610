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

# One line a key for the words that a command prints: the words with commas, or absent where it prints none. A command that fails was not
# able to look, which is something else than not having found anything.
list() { # KEY COMMAND...
    key=$1
    shift
    if words=$("$@"); then
        words=$(printf '%s\n' "$words" | grep . | sort -u | head -n 40 | paste -s -d, -)
        if [ -n "$words" ]; then echo "$key = $words"; else echo "$key is absent"; fi
    else
        echo "$key is unreadable: '$*' ended with status $?"
    fi
}
# The words of the first list that are not in the second.
without() { printf '%s\n' "$1" | grep . | while read -r word; do printf '%s\n' "$2" | grep -qxF "$word" || echo "$word"; done; }
instant() { date -u -d "@$1" +%Y-%m-%dT%H:%M:%SZ; }

newest=$(find /var/lib/apt/lists -maxdepth 1 -name '*Release' -printf '%T@\n' 2>/dev/null | sort -n | tail -n 1 | cut -d . -f 1)
# A list that had not changed at its source keeps its old date; the folder tells when it was last asked for.
asked=$(stat -c %Y /var/lib/apt/lists/partial 2>/dev/null || echo 0)
if [ -n "$newest" ]; then
    [ "$asked" -gt "$newest" ] && newest=$asked
    echo "packages.lists.updated = $(instant "$newest")"
else
    echo "packages.lists.updated is absent"
fi
if [ -z "$newest" ]; then
    echo "packages.upgradable is unreadable: there are no package lists; run apt-get update"
elif found=$(apt-get -s -o Debug::NoLocking=1 --with-new-pkgs upgrade 2>&1); then
    echo "packages.upgradable = $(printf '%s\n' "$found" | grep -c '^Inst ')"
else
    echo "packages.upgradable is unreadable: $(printf '%s\n' "$found" | grep '^E:' | head -n 1)"
fi
list packages.held apt-mark showhold
unfinished() {
    all=$(dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\n') || return
    audit=$(dpkg --audit 2>/dev/null) || [ $? -eq 1 ] || return
    printf '%s\n' "$all" | awk '$1 !~ /^[ihr][ic]$/ || $1 ~ /R$/ { print $2 }'
    printf '%s\n' "$audit" | awk '/^ [a-z0-9]/ { print $1 }'
}
list packages.unfinished unfinished
if apt-get -o Debug::NoLocking=1 check >/dev/null 2>&1; then echo "packages.consistent = yes"; else echo "packages.consistent = no"; fi

saved=/var/backups/grandstair
policy=$(apt-cache policy 2>/dev/null)
sources() {
    printf '%s\n' "$policy" | awk '
        /^ *-?[0-9]+ / { source = $2 }
        /^ *release / && $0 !~ /(^|[ ,])o=Debian(,|$)/ && source !~ /^\/var\/lib\/dpkg/ { print source }'
}
# A source without a release file has no "release" line of its own; its file name still tells.
foreign() { installed=$(apt list --installed 2>/dev/null) && printf '%s\n' "$installed" | awk -F / '/\[installed,local\]/ { print $1 }'; }
# Packages of which the sources have another version, held ones and such as are kept back among them.
outdated() { found=$(apt list --upgradable 2>/dev/null) && printf '%s\n' "$found" | awk -F / 'NF > 1 { print $1 }'; }
held_since() { now=$(apt-mark showhold) && without "$now" "$(cat "$saved/held" 2>/dev/null)"; }
# A compiler's base package holds nothing but its documentation folder, and apt keeps it for its priority.
foreign_since() { now=$(foreign) && without "$now" "$(cat "$saved/foreign")" | sed '/^gcc-[0-9]*-base$/d'; }
if [ -n "$newest" ]; then
    list packages.sources.foreign sources
    list packages.foreign foreign
    list packages.outdated outdated
else
    for key in packages.sources.foreign packages.foreign packages.outdated; do echo "$key is unreadable: there are no package lists; run apt-get update"; done
fi
if [ -f "$saved/held" ]; then list packages.held-since held_since; else echo "packages.held-since is absent"; fi
if [ -f "$saved/foreign" ]; then list packages.foreign-since foreign_since; else echo "packages.foreign-since is absent"; fi

# An upgrade that began here has switched the sources. It is complete when the system and every package are of the new release.
to=$(printf '%s\n' "$policy" | sed -n 's/^ *release v=\([0-9]*\)[.0-9]*,o=Debian,.*/\1/p' | sort -n | tail -n 1)
before=$(cat "$saved/release" 2>/dev/null)
if [ -z "$before" ] || [ -z "$to" ] || [ "$to" -le "$before" ]; then
    echo "upgrade.partial is absent"
elif ! left=$(unfinished && outdated); then
    echo "upgrade.partial is unreadable: the package database or the package lists cannot be read"
elif [ "${VERSION_ID:-0}" = "$to" ] && [ -z "$left" ]; then
    echo "upgrade.partial is absent"
else
    echo "upgrade.partial = $to"
fi

holder=
for lock in /var/lib/dpkg/lock-frontend /var/lib/dpkg/lock /var/lib/apt/lists/lock; do
    inode=$(stat -c %i "$lock" 2>/dev/null) || continue
    pid=$(awk -v inode="$inode" '{ n = split($6, part, ":"); if (part[n] == inode) { print $5; exit } }' /proc/locks)
    [ -n "$pid" ] && holder=$(cat "/proc/$pid/comm" 2>/dev/null || echo "process $pid") && break
done
if [ -n "$holder" ]; then echo "packages.lock = $holder"; else echo "packages.lock is absent"; fi
list packages.leftovers find /etc -name '*.dpkg-dist' -o -name '*.dpkg-new' -o -name '*.ucf-dist' -o -name '*.ucf-new'

denied=no
if [ -x /usr/sbin/policy-rc.d ]; then
    /usr/sbin/policy-rc.d ssh restart >/dev/null 2>&1
    [ $? -eq 101 ] && denied=yes
fi
if [ ! -d /run/systemd/system ] && ! runlevel 2>/dev/null | grep -q '[2-5]$'; then denied=yes; fi
echo "services.restart.denied = $denied"

missing() { now=$(ps -e -o comm=) && without "$(cat "$saved/services")" "$now"; }
if [ -f "$saved/services" ]; then
    list services.missing missing
else
    echo "services.missing is absent"
fi
if [ -f "$saved/etc.tar.gz" ]; then echo "backup.settings = $(instant "$(stat -c %Y "$saved/etc.tar.gz")")"; else echo "backup.settings is absent"; fi

# Upgrades this system to the next release of Debian. Begun again after a power cut it goes on where it stopped.
set -u
export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none UCF_FORCE_CONFFOLD=1 NEEDRESTART_SUSPEND=1
case $GS_TO in
12) from=bullseye to=bookworm ;;
13) from=bookworm to=trixie ;;
*) echo "this script does not know the name of Debian $GS_TO" && exit 1 ;;
esac
say() { echo "$1 $2" >>"$GS_PROGRESS"; echo "== $2"; }
options="-y -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold -o DPkg::Lock::Timeout=600 --no-install-recommends"

# Runs apt-get and turns what it says of its progress into a share between two bounds.
watched() {
    from=$1 to=$2
    shift 2
    {
        # shellcheck disable=SC2086
        { apt-get $options -o APT::Status-Fd=3 "$@" 3>&1 1>&4; echo $? >status; } | while IFS=: read -r kind what percent said; do
            percent=${percent%.*}
            case $kind$percent in
            pmstatus[0-9]*) echo "$((from + (to - from) * percent / 100)) $said" >>"$GS_PROGRESS" ;;
            pmerror*) echo "${what##*/}: $said" >>failed ;;
            esac
        done
    } 4>&1
    return "$(cat status)"
}

# Finishes what dpkg stopped in the middle of. A package whose files were only partly unpacked cannot be configured: it is unpacked again first.
finish_begun() {
    for package in $(dpkg-query -W -f '${db:Status-Eflag} ${binary:Package}\n' | sed -n 's/^reinstreq //p'); do
        echo "$package was only partly unpacked; unpacking it again"
        archive=$(ls -t "/var/cache/apt/archives/${package%%:*}"_*.deb 2>/dev/null | head -n 1)
        if [ -z "$archive" ]; then
            apt-get download "$package" || continue
            archive=$(ls -t "./${package%%:*}"_*.deb | head -n 1)
        fi
        dpkg --unpack --force-confdef --force-confold "$archive" || true
    done
    dpkg --configure -a --force-confdef --force-confold
}

# The same, again where dpkg stopped in the middle: what it could not configure once, it often can when the rest is there.
persistently() {
    for attempt in 1 2 3; do
        rm -f failed
        watched "$@" && return 0
        echo "attempt $attempt ended early; finishing what is in the middle of something"
        finish_begun || true
        apt-get $options -f install || true
    done
    # The last line becomes the reason why the run is parked.
    [ ! -s failed ] || echo "failed: $(sort -u failed | head -n 3 | paste -s -d ';')"
    return 1
}

say 1 "finishing what was begun before, if anything"
finish_begun || echo "some packages wait for others; the upgrade brings them"

say 2 "switching the package sources to the new release"
for file in /etc/apt/sources.list /etc/apt/sources.list.d/*.list /etc/apt/sources.list.d/*.sources; do
    [ -f "$file" ] || continue
    sed -i -e "s/\b$from\/updates\b/$to-security/g; s/\b$from\b/$to/g" "$file" || exit 1
done
say 4 "fetching the package lists"
apt-get -o DPkg::Lock::Timeout=600 update || exit 1
say 8 "fixing broken dependencies, if any"
persistently 8 10 -f install || exit 1
say 10 "upgrading what needs no new packages"
persistently 10 40 upgrade --without-new-pkgs || exit 1
say 40 "upgrading everything"
persistently 40 96 full-upgrade || exit 1

say 97 "starting the login service anew, so that new logins use the new libraries"
if [ -d /run/systemd/system ]; then systemctl restart ssh; elif [ -x /etc/init.d/ssh ]; then /etc/init.d/ssh restart; fi

say 98 "looking whether every package is whole"
audit=$(dpkg --audit)
if [ -n "$audit" ]; then
    echo "$audit"
    exit 1
fi
apt-get check || exit 1
say 100 "all packages are upgraded"

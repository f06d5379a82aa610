# Removes packages that came only for others, libraries of the old release, and archives.
set -eu
export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none UCF_FORCE_CONFFOLD=1
# Libraries that a source had before the upgrade and that no source has any more are of the old release. They go with the others once nothing
# installed needs them, whoever asked for them. Programs stay, for a person to decide about.
before=/var/backups/grandstair/foreign
if [ -f "$before" ]; then
    apt list --installed 2>/dev/null | awk -F / '/\[installed,local\]/ { print $1 }' | while read -r package; do
        if grep -qxF "$package" "$before"; then continue; fi
        case $(dpkg-query -W -f '${Section}\n' "$package" | head -n 1) in
        libs | oldlibs | */libs | */oldlibs) apt-mark auto "$package" ;;
        esac
    done
fi
apt-get -y -o DPkg::Lock::Timeout=600 autoremove --purge
apt-get clean
rm -rf /var/cache/grandstair
dpkg --audit
apt-get check

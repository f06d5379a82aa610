# Lists what was chosen by hand, the devices, and the files that an upgrade should leave alone, with a tab between kind, name and value.
set -eu
apt-mark showmanual | while read -r package; do
    dpkg-query -W -f 'package\t${binary:Package}\t${Version}\n' "$package" 2>/dev/null || true
done
for device in /sys/class/net/* /sys/block/*; do
    case ${device##*/} in '*' | lo | loop* | ram* | veth*) ;; *) printf 'device\t%s\t\n' "${device##*/}" ;; esac
done
for file in /etc/fstab /etc/hostname /etc/hosts /etc/passwd /etc/group /etc/ssh/sshd_config /etc/ssh/ssh_host_*_key.pub; do
    [ -f "$file" ] || continue
    printf 'file\t%s\t%s\n' "$file" "$(sha256sum "$file" | cut -d ' ' -f 1)"
done

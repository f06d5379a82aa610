# Removes packages that came only for others and archives that are installed; then looks whether anything newer has come.
set -eu
export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none UCF_FORCE_CONFFOLD=1
apt-get -o DPkg::Lock::Timeout=600 update
apt-get -y -o DPkg::Lock::Timeout=600 -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold upgrade
apt-get -y -o DPkg::Lock::Timeout=600 autoremove --purge
apt-get clean
rm -rf /var/cache/grandstair
dpkg --audit
apt-get check

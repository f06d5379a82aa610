# Installs the later server beside the one that runs. It makes no cluster of its own.
set -eu
export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none
mkdir -p /etc/postgresql-common
settings=/etc/postgresql-common/createcluster.conf
[ -f "$settings" ] && cp "$settings" "$settings.grandstair"
# Put back however this ends.
trap 'if [ -f "$settings.grandstair" ]; then mv "$settings.grandstair" "$settings"; fi' EXIT
touch "$settings"
sed -i '/^create_main_cluster/d' "$settings"
echo "create_main_cluster = false" >>"$settings"
echo "10 fetching the package lists" >>"$GS_PROGRESS"
apt-get -o DPkg::Lock::Timeout=600 update
echo "30 installing postgresql-$GS_TO" >>"$GS_PROGRESS"
apt-get -y -o DPkg::Lock::Timeout=600 -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold --no-install-recommends install "postgresql-$GS_TO"
"/usr/lib/postgresql/$GS_TO/bin/postgres" --version

# Installs what the present release has newer; settings that somebody changed stay as they are.
set -eu
export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none UCF_FORCE_CONFFOLD=1
apt-get -o DPkg::Lock::Timeout=600 update
apt-get -y -o DPkg::Lock::Timeout=600 -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold --with-new-pkgs upgrade

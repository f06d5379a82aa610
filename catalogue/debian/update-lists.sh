# Fetches the package lists of the present release.
set -eu
apt-get -o DPkg::Lock::Timeout=600 update

# Removes package archives that were fetched and are not needed any more.
set -eu
apt-get clean

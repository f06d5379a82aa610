# Fetches what the new release will need while the present one goes on running. Old archives go first: a clean-up afterwards would delete the new ones.
set -eu
export DEBIAN_FRONTEND=noninteractive
stage=/var/cache/grandstair
mkdir -p "$stage/lists/partial" "$stage/parts"
case $GS_TO in
12) from=bullseye to=bookworm ;;
13) from=bookworm to=trixie ;;
*) echo "this script does not know the name of Debian $GS_TO" && exit 1 ;;
esac
say() { echo "$1 $2" >>"$GS_PROGRESS"; echo "$2"; }

say 5 "clearing old package archives"
apt-get clean
renamed() { sed -e "s/\b$from\/updates\b/$to-security/g; s/\b$from\b/$to/g" "$1"; }
[ ! -f /etc/apt/sources.list ] || renamed /etc/apt/sources.list >"$stage/sources.list"
[ -f "$stage/sources.list" ] || : >"$stage/sources.list"
for file in /etc/apt/sources.list.d/*.list /etc/apt/sources.list.d/*.sources; do
    [ ! -f "$file" ] || renamed "$file" >"$stage/parts/$(basename "$file")"
done
ahead() {
    apt-get -o Dir::Etc::SourceList="$stage/sources.list" -o Dir::Etc::SourceParts="$stage/parts" -o Dir::State::Lists="$stage/lists" -o DPkg::Lock::Timeout=600 "$@"
}
say 15 "fetching the new package lists"
ahead update
say 40 "fetching the new packages"
ahead -y --no-install-recommends --download-only full-upgrade
say 100 "all packages are here"

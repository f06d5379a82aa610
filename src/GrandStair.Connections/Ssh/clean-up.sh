# Removes media that earlier upgrades left on this machine. What this run needs stays, and so does what it has fetched of it.
set -u
mkdir -p "$GS_MEDIA_FOLDER" || exit 1
freed=0
for entry in "$GS_MEDIA_FOLDER"/*; do
    [ -e "$entry" ] || continue
    name=$(basename "$entry" .part)
    case " $GS_KEEP " in *" $name "*) continue ;; esac
    freed=$((freed + $(du -s -B 1 "$entry" | cut -f 1)))
    rm -rf "$entry" || exit 1
done
echo "reclaimed $((freed >> 20)) MiB in $GS_MEDIA_FOLDER"

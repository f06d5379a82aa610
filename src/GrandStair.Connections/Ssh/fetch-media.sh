# Fetches media to this machine, continues where an earlier attempt was cut off, and compares the checksum before the file counts.
set -u
file=$GS_MEDIA_FOLDER/$GS_MEDIA_SHA256/$GS_MEDIA_FILE
part=$GS_MEDIA_FOLDER/$GS_MEDIA_SHA256.part
size_of() { stat -c %s "$1" 2>/dev/null || echo 0; }
holds() { [ "$(sha256sum "$1" | cut -c 1-64)" = "$GS_MEDIA_SHA256" ]; }
report() {
    fetched=$(size_of "$part")
    echo "$((fetched * 100 / GS_MEDIA_SIZE))% $((fetched >> 20)) of $((GS_MEDIA_SIZE >> 20)) MiB fetched" >"$GS_PROGRESS"
}

mkdir -p "$GS_MEDIA_FOLDER/$GS_MEDIA_SHA256" || exit 1
if [ -f "$file" ] && holds "$file"; then
    echo "$GS_MEDIA_FILE was on the machine already; its SHA-256 matches: $GS_MEDIA_SHA256"
    exit 0
fi
rm -f "$file"
[ "$(size_of "$part")" -gt "$GS_MEDIA_SIZE" ] && rm -f "$part"
needed=$((GS_MEDIA_SIZE - $(size_of "$part")))
free=$(df -P -B 1 "$GS_MEDIA_FOLDER" | awk 'NR == 2 { print $4 }')
if [ "$free" -lt "$needed" ]; then
    echo "not enough space for $GS_MEDIA_FILE: $((needed >> 20)) MiB needed, $((free >> 20)) MiB free in $GS_MEDIA_FOLDER"
    exit 28
fi
if [ "$needed" -gt 0 ]; then
    command -v curl >/dev/null || { echo "curl is not installed on this machine; install it, then try again"; exit 127; }
    # The token comes from standard input, so that no list of processes shows it. A repository of the site needs none.
    { [ -z "$GS_SECRET_ORDER_TOKEN" ] || printf 'header = "Authorization: Order %s"\n' "$GS_SECRET_ORDER_TOKEN"; } |
        curl --config - --fail --silent --show-error --connect-timeout 30 --speed-limit 1 --speed-time 120 \
            ${GS_MEDIA_RATE:+--limit-rate "$GS_MEDIA_RATE"} --continue-at - --output "$part" "$GS_ORDER_URL" &
    fetching=$!
    while kill -0 "$fetching" 2>/dev/null; do
        report
        sleep 1
    done
    wait "$fetching"
    status=$?
    if [ "$status" -eq 22 ]; then
        echo "$GS_MEDIA_FILE could not be fetched: ${GS_ORDER_URL%%\?*} refuses it; see the line above, and put the file there"
        exit 22
    fi
    if [ "$status" -ne 0 ]; then
        echo "fetching $GS_MEDIA_FILE was cut off after $(size_of "$part") of $GS_MEDIA_SIZE bytes; the next attempt continues there"
        exit 56
    fi
fi
if ! holds "$part"; then
    echo "the SHA-256 of $GS_MEDIA_FILE does not match: expected $GS_MEDIA_SHA256, found $(sha256sum "$part" | cut -c 1-64); it was deleted"
    rm -f "$part"
    exit 65
fi
sync "$part" && mv "$part" "$file" || exit 1
from=
[ -n "$GS_SECRET_ORDER_TOKEN" ] || from=" from $GS_ORDER_URL"
echo "$GS_MEDIA_FILE fetched ($((GS_MEDIA_SIZE >> 20)) MiB)$from; its SHA-256 matches: $GS_MEDIA_SHA256"

#!/bin/sh
# Carries out orders on this machine: each attempt at most once, and whether or not the connection lasts.
#   launcher HOME post ORDER EPOCH KIND SHA256   takes "script", "values" and, where there are any, "secrets" from stdin, one base64 line each
#   launcher HOME ask ORDER                      says how an order stands
#   launcher HOME output ORDER FROM MOST         prints what an order has printed from a byte on, as base64
#   launcher HOME read SECONDS SHA256            runs the script on stdin (base64), prints its output, and ends with "read-ended STATUS BYTES"
#   launcher HOME run FOLDER                     does an order; started by post, never by hand
# SHA256 is that of stdin without its last line break: what was cut on its way is not begun.
set -u
umask 077
PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
LC_ALL=C.UTF-8
HOME=/root
export PATH LC_ALL HOME

home=$1
verb=$2
shift 2
self=$0
# Secrets stand in memory alone, until the script has them; a restart takes them away.
secrets_of() { echo "/run/grandstair-secrets/$(printf %s "$1" | sha256sum | cut -c 1-32)"; }
# Takes stdin into $payload; what is not whole is refused.
payload() {
    payload=$(cat)
    [ "$(printf %s "$payload" | sha256sum | cut -c 1-64)" = "$1" ] && return
    echo "incomplete"
    exit 0
}
boot() { cat /proc/sys/kernel/random/boot_id; }
# The moment a process began tells it from a later one with the same number; one that is dead and only not buried has none.
born() { sed 's/.*) //' "/proc/$1/stat" 2>/dev/null | awk '$1 != "Z" { print $20 }'; }

# Whether the process that a file names is alive.
alive() { [ -f "$1" ] && read -r pid birth <"$1" && [ "$(born "$pid")" = "$birth" ]; }

start() {
    if [ -d /run/systemd/system ]; then
        systemd-run --quiet --collect --unit="grandstair-$(basename "$dir")" /bin/sh "$self" "$home" run "$dir"
    else
        setsid /bin/sh "$self" "$home" run "$dir" </dev/null >/dev/null 2>&1 9>&- &
    fi
}

case $verb in
post)
    order=$1 epoch=$2 kind=$3
    payload "$4"
    dir=$home/orders/$order
    run=${order%%.*}
    mkdir -p "$home/orders" "$home/epochs" || exit 1
    exec 9>"$home/lock"
    flock -w 20 9 || { echo "busy"; exit 0; }
    known=$(cat "$home/epochs/$run" 2>/dev/null || echo 0)
    if [ "$epoch" -lt "$known" ]; then echo "epoch $known"; exit 0; fi
    echo "$epoch" >"$home/epochs/$run.new" && mv "$home/epochs/$run.new" "$home/epochs/$run" || exit 1
    if [ -d "$dir" ]; then
        echo "$(date +%s) again" >>"$dir/posts"
        echo "known"
        exit 0
    fi
    rm -rf "$home/incoming" && mkdir "$home/incoming" || exit 1
    printf '%s\n' "$payload" | while read -r file data; do
        case $file in
        script | values) printf %s "$data" | base64 -d >"$home/incoming/$file" || exit 1 ;;
        secrets)
            mkdir -p -m 700 /run/grandstair-secrets && [ ! -L /run/grandstair-secrets ] && [ "$(stat -c %u /run/grandstair-secrets)" = "$(id -u)" ] || exit 1
            printf %s "$data" | base64 -d >"$(secrets_of "$dir")" || exit 1
            ;;
        esac
    done || exit 1
    boot >"$home/incoming/boot"
    echo "$kind" >"$home/incoming/kind"
    echo "$(date +%s) first" >"$home/incoming/posts"
    sync "$home/incoming"/* || exit 1
    # With this name the attempt exists; whatever happens from here on, it is not begun a second time.
    mv "$home/incoming" "$dir" || exit 1
    sync "$home/orders"
    start
    echo "begun"
    ;;
run)
    dir=$1
    cd "$dir" || exit 1
    # A second runner of one attempt ends here.
    mkdir running 2>/dev/null || exit 1
    echo "$$ $(born $$)" >process
    if [ "$(cat kind)" = restart ]; then
        sleep 1
        shutdown -r now >output 2>&1 || { echo $? >exit.new && mv exit.new exit; }
        exit 0
    fi
    while IFS='=' read -r name value; do export "GS_$name=$value"; done <values
    secrets=$(secrets_of "$dir")
    if [ -f "$secrets" ]; then
        while IFS='=' read -r name value; do export "GS_SECRET_$name=$(printf %s "$value" | base64 -d)"; done <"$secrets"
        rm -f "$secrets"
    fi
    GS_PROGRESS=$dir/progress
    export GS_PROGRESS
    /bin/sh ./script >output 2>&1 </dev/null &
    # The script may outlive its runner: it is running as long as one of them lives.
    echo "$! $(born $!)" >script-process
    wait $!
    echo $? >exit.new && sync exit.new output && mv exit.new exit
    ;;
ask)
    dir=$home/orders/$1
    [ -d "$dir" ] || { echo "state unseen"; exit 0; }
    cd "$dir" || exit 1
    status() {
        if [ -f exit ]; then echo "ended $(cat exit)"; return; fi
        if [ "$(cat boot)" != "$(boot)" ]; then
            if [ "$(cat kind)" = restart ]; then echo "ended 0"; else echo "gone"; fi
            return
        fi
        # Just begun: the runner has not written its number yet.
        if [ ! -f process ]; then
            if [ "$(($(date +%s) - $(stat -c %Y posts)))" -lt 20 ]; then echo "running"; else echo "gone"; fi
            return
        fi
        if alive process || alive script-process || [ "$(cat kind)" = restart ]; then echo "running"; else echo "gone"; fi
    }
    now=$(status)
    # It may have ended between the two looks.
    if [ "$now" = gone ]; then sleep 1; now=$(status); fi
    echo "state $now"
    [ -f exit ] && echo "lasted $(($(stat -c %Y exit) - $(head -n 1 posts | cut -d ' ' -f 1)))"
    [ -f progress ] && tail -n 1 progress | cut -c 1-200 | sed 's/^/progress /'
    if [ -f output ]; then
        echo "printed $(stat -c %s output)"
        printf 'output '
        tail -c 3000 output | base64 -w 0
        echo
    fi
    ;;
output)
    tail -c "+$(($2 + 1))" "$home/orders/$1/output" 2>/dev/null | head -c "$3" | base64 -w 0
    echo
    ;;
read)
    payload "$2"
    folder=$(mktemp -d) || exit 1
    trap 'rm -rf "$folder"' EXIT
    printf %s "$payload" | base64 -d >"$folder/script" || exit 1
    # The pipe's last command would hide the script's status. Whatever the script leaves running ends with it, as its process group.
    {
        timeout -k 5 "$1" /bin/sh "$folder/script" </dev/null 2>&1 &
        wait $!
        echo $? >"$folder/status"
        kill -s KILL -- -$! 2>/dev/null
    } | head -c 1000001 >"$folder/output"
    head -c 1000000 "$folder/output"
    echo
    echo "read-ended $(cat "$folder/status" 2>/dev/null || echo unknown) $(wc -c <"$folder/output")"
    ;;
*)
    echo "unknown verb: $verb" >&2
    exit 2
    ;;
esac

# Completes gstair's commands, options, names and conditions in bash: source <(gstair completion bash)
_gstair() {
    local IFS=$'\n'
    compopt -o nospace
    # What is written so far goes to gstair word by word; a quote that is still open is bash's own.
    COMPREPLY=($("$1" complete "--word=$2" -- "${COMP_WORDS[@]:1:COMP_CWORD-1}" 2>/dev/null))
}
complete -F _gstair gstair

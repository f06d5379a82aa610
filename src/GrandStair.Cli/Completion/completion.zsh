#compdef gstair
# Completes gstair's commands, options, names and conditions in zsh: source <(gstair completion zsh)
_gstair() {
    local -a offers
    offers=("${(@f)$("${words[1]}" complete "--word=${(Q)words[CURRENT]}" -- "${(@Q)words[2,CURRENT-1]}" 2>/dev/null)}")
    offers=("${(@)offers:#}")
    (( $#offers )) && compadd -S '' -- "${offers[@]% }"
}
compdef _gstair gstair

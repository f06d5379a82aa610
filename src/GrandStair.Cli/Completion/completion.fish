# Completes gstair's commands, options, names and conditions in fish: gstair completion fish | source
function __gstair_complete
    set -l before (commandline -opc)
    $before[1] complete "--word="(commandline -ct) -- $before[2..] 2>/dev/null | string trim --right
end
complete -c gstair -f -a '(__gstair_complete)'

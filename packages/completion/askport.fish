# Completion of askport for fish.
complete -c askport -f -a '(@COMPLETE@ (commandline -opc)[2..] (commandline -ct) 2>/dev/null)'

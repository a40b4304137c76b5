#compdef askport
# Completion of askport for zsh.
local each
local -a open shut
for each in "${(@f)$(@COMPLETE@ "${(@Q)words[2,CURRENT]}" 2>/dev/null)}"; do
    [[ -z $each ]] && continue
    if [[ ${each%%$'\t'*} == */ ]]; then
        open+=("${each%%$'\t'*}")
    else
        shut+=("${${each%%$'\t'*}//:/\\:}:${each#*$'\t'}")
    fi
done
(( $#open )) && compadd -S '' -- $open
(( $#shut )) && _describe -V '' shut

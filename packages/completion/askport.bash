# Completion of askport for bash.
_askport() {
    local each
    local -a words=("${COMP_WORDS[@]:1:COMP_CWORD}")
    COMPREPLY=()
    compopt -o filenames 2>/dev/null
    while IFS= read -r each; do
        COMPREPLY+=("${each%%$'\t'*}")
    done < <(@COMPLETE@ "${words[@]}" 2>/dev/null)
    [[ ${#COMPREPLY[@]} == 1 && ${COMPREPLY[0]} == */ ]] && compopt -o nospace 2>/dev/null
}
complete -F _askport askport

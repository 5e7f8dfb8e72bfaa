# Completion of jevrin for bash: commands, the verbs of a command, options from its own help; otherwise files.
_jevrin() {
    local word=${COMP_WORDS[COMP_CWORD]} before=() candidates
    if [ "$COMP_CWORD" -ge 2 ]; then before=("${COMP_WORDS[1]}"); fi
    if [ "$COMP_CWORD" -ge 3 ] && jevrin "${COMP_WORDS[@]:1:2}" --help >/dev/null 2>&1; then
        before=("${COMP_WORDS[@]:1:2}")
    fi
    if [[ $word == -* ]]; then
        candidates=$(jevrin "${before[@]}" --help 2>/dev/null | grep -oE -- '--[a-z][a-z-]*')
    else
        candidates=$(jevrin "${before[@]}" --help 2>/dev/null | awk '/^  [a-z]/ {print $1}')
    fi
    COMPREPLY=($(compgen -W "$candidates" -- "$word"))
    [ ${#COMPREPLY[@]} -gt 0 ] || COMPREPLY=($(compgen -f -- "$word"))
}
complete -o filenames -F _jevrin jevrin

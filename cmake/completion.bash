# Completion of jevrin for bash: commands, then the options of the command, from its own help; otherwise files.
_jevrin() {
    local word=${COMP_WORDS[COMP_CWORD]}
    if [ "$COMP_CWORD" -eq 1 ]; then
        COMPREPLY=($(compgen -W "$(jevrin --help 2>/dev/null | awk '/^  [a-z]/ {print $1}')" -- "$word"))
    elif [[ $word == -* ]]; then
        COMPREPLY=($(compgen -W "$(jevrin "${COMP_WORDS[1]}" --help 2>/dev/null | grep -oE -- '--[a-z][a-z-]*')" -- "$word"))
    else
        COMPREPLY=($(compgen -f -- "$word"))
    fi
}
complete -o filenames -F _jevrin jevrin

# Inside a sandbox: runs a program for a person whose stream the agent holds.
# 6: input. 1: output. 4: errors. 3: sizes of the window, a line each: COLUMNS ROWS
#
#   tty | plain   COLUMNS ROWS PROGRAM ARGUMENT...
mode=$1 columns=$2 rows=$3
shift 3
if ! type -P -- "$1" >/dev/null; then
  printf '%q: there is no such program in this sandbox\n' "$1" >&4
  exit 127
fi
if [[ $mode == plain ]]; then
  # Real pipes: programs may open /dev/stderr again, which a socket would refuse.
  exec 3<&- 5> >(exec cat >&4 6<&-)
  errors=$!
  env --default-signal "$@" <&6 2>&5 6<&- 4>&- 5>&-
  status=$?
  exec 5>&-
  wait "$errors"
  exit "$status"
fi
# The terminal is the sandbox's own, and its master a process in here (script(1)): job control and signals work as anywhere, and
# nothing reaches a terminal outside. What changes its size hears no signal that is meant for the program.
inside='
stty columns "$1" rows "$2"
( (
  trap "" INT QUIT TSTP TTOU
  while read -r columns rows <&3; do stty columns "$columns" rows "$rows" </dev/tty; done >/dev/null 2>&1
) & )
shift 2
exec 3<&-
# A shell that is not spoken to drops its prompt, and what runs in the background hears no interrupt: neither is to be so in here.
exec env --default-signal PS1="$TSUNAGI_PROMPT" "$@"
'
export SHELL=/bin/bash
printf -v line '%q ' bash -c "$inside" hand "$columns" "$rows" "$@"
exec script -qef -E always -c "exec $line" /dev/null <&6 6<&- 4>&-

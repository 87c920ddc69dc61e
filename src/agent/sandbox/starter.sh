#!/bin/bash
# Starts chains of processes for the agent, which is too large to make another process quickly: a copy of this one costs a tenth.
# Ends when its standard input does, or with the agent; what it has started ends with it.
#
# Reads calls from its standard input; each is ID, FOLDER, PIPES, the number of GROUPS and each of them, the number of WORDS and
# each of them, every one ended by a zero byte. Runs the words in FOLDER, in the groups (files that take a process's id), with the
# named pipes of PIPES: in, out, err, and 3, 4, 5. Answers a line for each: `ID PROCESS`, or `ID -` when it could not be begun.
exec 9>&1
while IFS= read -r -d '' id && IFS= read -r -d '' folder && IFS= read -r -d '' pipes; do
  groups=() words=()
  IFS= read -r -d '' count
  # Of none, mapfile would read all that comes.
  ((count == 0)) || mapfile -d '' -t -n "$count" groups
  IFS= read -r -d '' count
  ((count == 0)) || mapfile -d '' -t -n "$count" words
  (
    # Said wherever this can't go on.
    trap 'echo "$id -" >&9' EXIT
    for group in "${groups[@]}"; do echo "$BASHPID" >"$group" || exit; done
    cd "$folder" || exit
    exec <"$pipes/in" >"$pipes/out" 2>"$pipes/err" 3>"$pipes/3" 4>"$pipes/4" 5>"$pipes/5" || exit
    trap - EXIT
    echo "$id $BASHPID" >&9
    exec "${words[@]}" 9>&-
  ) &
done

# Inside an instance's sandbox: lets people's terminals in beside its program, and becomes that program. Whoever is let in has what the
# program has, and no more: the same account, filter of system calls, limits and names. It is not the program's child: an orphan, which
# the sandbox's first process buries.
#
#   HAND START   what hand.sh says, and the program's command
#
# /run/tsunagi-hands, which nothing in here can write to, has a pipe `ask`: a line each is the name of a folder with the pipes of one
# terminal and its words.
hand=$1 start=$2 at=/run/tsunagi-hands
( (
  exec 9<>"$at/ask" || exit
  while IFS= read -r name <&9; do
    [[ $name =~ ^[0-9a-f-]{36}$ && -d $at/$name ]] || continue
    (
      exec 9<&- 6<"$at/$name/in" 3<"$at/$name/size" 4>"$at/$name/err" 5>"$at/$name/over" >"$at/$name/out"
      mapfile -d '' -t words <"$at/$name/words"
      mapfile -d '' -t variables <"$at/$name/variables"
      for pair in "${variables[@]}"; do export "$pair"; done
      # Its own id, as it is in here: whoever ends it finds it by that.
      echo "begun $BASHPID" >&5
      setsid --wait bash -c "$hand" hand "${words[@]}" 5>&-
      echo "ended $?" >&5
    ) &
  done
) </dev/null >/dev/null 2>&1 & )
exec bash -euo pipefail -c "$start"

# Inside the sandbox: runs the commands of an attempt one after another, each on its own, and hands out what is kept.
# 3: what happens, for the agent. 4: the outputs as a tar. 5: the results and the coverage. 1: what the commands print, with a mark behind each.
# All of them are pipes to the agent, and this shell is a copy that the work may execute but not read: nothing in here can take them.
#
#   MARK RESULTS COVERAGE COUNT OUTPUT… COMMAND…
mark=$1 results=$2 coverage=$3 count=$4
shift 4
outputs=("${@:1:count}")
shift "$count"
# A handler, not "ignore": what is ignored would be ignored by the commands too. It runs when the command has ended.
trap : TERM
position=0 status=0
for command in "$@"; do
  echo "started $position" >&3
  began=$EPOCHREALTIME
  bash -euo pipefail -c "$command" </dev/null 3>&- 4>&- 5>&-
  status=$?
  ended=$EPOCHREALTIME
  printf '\0%s\0' "$mark"
  echo "ended $position $status $((${ended/./} - ${began/./}))" >&3
  ((status == 0)) || break
  ((position += 1))
done
# Whatever still runs in here ends before anything else is started: after a fork bomb there would be no room for it. What was being
# started at that moment ends with the second one.
kill -KILL -- -1 2>/dev/null
kill -KILL -- -1 2>/dev/null
# A full /tmp or HOME is a likely reason, which the program may not have said.
if ((status != 0)); then
  for place in /tmp "$HOME"; do
    left=$(df -B1 --output=avail "$place" 2>/dev/null | tail -n 1)
    ((${left:-1048576} < 65536)) && echo "full $place" >&3
  done
fi
if [[ -n $results ]]; then
  if [[ -f $results ]]; then head -c 20000000 -- "$results" >&5 3>&- 4>&-; else echo "no-results" >&3; fi
fi
printf '\0coverage %s\0' "$mark" >&5
if [[ -n $coverage ]]; then
  if [[ -f $coverage ]]; then head -c 20000000 -- "$coverage" >&5 3>&- 4>&-; else echo "no-coverage" >&3; fi
fi
if ((status == 0 && count > 0)); then
  missing=0
  for at in "${!outputs[@]}"; do
    if [[ ! -e ${outputs[at]} && ! -L ${outputs[at]} ]]; then
      echo "missing $at" >&3
      missing=1
    fi
  done
  if ((missing == 0)); then
    said=$(tar -c -f - --format=gnu --sort=name --owner=0 --group=0 --numeric-owner --mtime=@0 --mode='u=rwX,go=rX' -- "${outputs[@]}" 2>&1 >&4 3>&- 5>&-) ||
      echo "not-kept" >&3
    # What tar leaves out in silence would be missing later.
    [[ $said != *'socket ignored'* ]] || echo "socket" >&3
  fi
fi
# The other ends stay open in what surrounds this: the mark tells that nothing follows.
printf '\0%s\0' "$mark" >&4
printf '\0%s\0' "$mark" >&5
echo "done" >&3
exit "$status"

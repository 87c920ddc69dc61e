# Inside the sandbox: runs the commands of an attempt one after another, each on its own, and hands out what is kept.
# 3: what happens, for the agent. 4: the outputs as a tar. 5: the results and the coverage. 1: what the commands print, with a mark behind each.
# All of them are pipes to the agent, and this shell is a copy that the work may execute but not read: nothing in here can take them.
# 6: what is to be done, fields that are ended by a zero byte each: MARK, RESULTS, COVERAGE, and the length and items of three lists:
# outputs, variables (NAME=value), commands.
#
#   wait | now
if [[ $1 == wait ]]; then
  # The project's folder comes last.
  read -r _ || exit 125
  cd /project || exit 125
  unset OLDPWD
fi
exec </dev/null
list() {
  local -n items=$1
  local count=0
  items=()
  IFS= read -r -d '' count <&6
  # Of none, mapfile would read all that comes.
  ((count == 0)) || mapfile -d '' -t -n "$count" items <&6
}
IFS= read -r -d '' mark <&6
IFS= read -r -d '' results <&6
IFS= read -r -d '' coverage <&6
list _outputs
list _variables
list _commands
# Told in part: whoever tells it is gone.
((${#_commands[@]} > 0)) || exit 125
exec 6<&-
count=${#_outputs[@]}
run() {
  local _pair
  # What bash keeps for itself can't be set; a list of its name could not be handed on.
  for _pair in "${_variables[@]}"; do export "$_pair"; done 2>/dev/null
  exec bash -euo pipefail -c "$1" 3>&- 4>&- 5>&-
}
# A handler, not "ignore": what is ignored would be ignored by the commands too. It runs when the command has ended.
trap : TERM
position=0 status=0
for command in "${_commands[@]}"; do
  echo "started $position" >&3
  began=$EPOCHREALTIME
  (run "$command")
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
  for at in "${!_outputs[@]}"; do
    if [[ ! -e ${_outputs[at]} && ! -L ${_outputs[at]} ]]; then
      echo "missing $at" >&3
      missing=1
    fi
  done
  if ((missing == 0)); then
    said=$(tar -c -f - --format=gnu --sort=name --owner=0 --group=0 --numeric-owner --mtime=@0 --mode='u=rwX,go=rX' -- "${_outputs[@]}" 2>&1 >&4 3>&- 5>&-) ||
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

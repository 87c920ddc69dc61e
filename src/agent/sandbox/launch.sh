#!/bin/bash
# Keeps one piece of work: makes its namespaces, ties its network, passes its output on, and writes down how it ended.
# Runs as the account of the work, never as root, in the work's private folder. Ends with its work; its work ends with it.
#
#   launch.sh FOLDER NET LEASE MODE RUNS
#
#   NET    none | pasta | relay; for the last two the files `pasta` (options, a line each) and `relays` (a line each: IN OUT) say which ports
#   LEASE  watch: end the work when the machine has been up for longer than the seconds in the file `lease` | -
#   MODE   write: what is changed lands in u/ | read: nothing can be changed
#   RUNS   what inner.sh says of it
#
# TSUNAGI_LOG, where it is set: bytes of one file of the log, and how many of them stay.
#
# What runs stands in files of the folder: `lower` (the overlay's lower folders, from the folder), `options` (bubblewrap's) and
# `command` (each word ended by a zero byte).
set -uo pipefail
cd "$1" || exit 125
net=$2 lease=$3 mode=$4 runs=$5
here=${0%/*}

# What an instance prints goes to files of a length that take turns: log.0, log.1, …; the newest few stay.
turn() {
  local number=0 length=$1 kept=$2 size
  while :; do
    if stdbuf -o0 head -c "$length" >>"log.$number"; then
      size=$(stat -c %s "log.$number")
      # Less than was asked for: nothing more comes. The first one begins with what was said before the program started.
      ((size < length)) && break
      ((number += 1))
      rm -f "log.$((number - kept))"
    else
      # The disk is full. What is printed meanwhile is lost, and the program goes on: a pipe that nobody reads would end it.
      timeout 1 cat >/dev/null && break
    fi
  done 2>/dev/null
}
# A real pipe: programs may open /dev/stdout again, which a socket would refuse.
output=''
if [[ -n ${TSUNAGI_LOG-} ]]; then
  # shellcheck disable=SC2086
  exec 7> >(turn $TSUNAGI_LOG)
  output=$!
elif [[ -p /dev/fd/1 ]]; then
  exec 7>&1
else
  exec 7> >(exec cat 3>&- 4>&- 5>&-)
  output=$!
fi

# What the agent unmounts is unmounted here, too.
flags=(-Urm --propagation slave)
if [[ $net != none ]]; then
  flags=(-Urmn --propagation slave)
  mkfifo ready go
fi
setpriv --pdeathsig KILL unshare "${flags[@]}" --kill-child bash "$here/inner.sh" "$net" "$mode" "$runs" <&0 >&7 2>&7 7>&- &
inner=$!
exec 7>&-

helpers=()
# A relay that does not listen yet would refuse what it is there for.
begun() {
  local tries
  for ((tries = 0; tries < 500; tries++)); do
    [[ -e $1 ]] && return 0
    sleep 0.02
  done
  return 1
}
tie() {
  case $net in
    pasta)
      mapfile -t options <pasta
      pasta "${options[@]}" -P pasta.pid "$inner" >pasta.log 2>&1 3>&- 4>&- 5>&- || return 1
      ;;
    relay)
      while read -r side from to; do
        [[ $side == outside ]] || continue
        setpriv --pdeathsig KILL "$NODE" "$here/relay.mjs" "$from" "$to" "ready-$from" >>relay.log 2>&1 3>&- 4>&- 5>&- &
        helpers+=($!)
        begun "ready-$from" || return 1
      done <relays
      ;;
  esac
}
if [[ $net != none ]]; then
  # Opened for reading and writing, so that this does not hang when the other side is dead.
  exec 6<>ready
  if read -r -t 20 _ <&6 && tie; then
    echo go >go
  else
    echo "the network could not be tied: $(tail -n 3 pasta.log 2>/dev/null | tr '\n' ' ')" >&2
    kill -KILL "$inner" 2>/dev/null
  fi
  exec 6<&-
fi

if [[ $lease == watch ]]; then
  (
    while kill -0 "$inner" 2>/dev/null; do
      sleep 1
      read -r until <lease || until=0
      # The time since the machine was started: nobody sets that clock.
      IFS=. read -r now _ </proc/uptime
      ((now <= until)) || { : >lease-over; kill -KILL "$inner"; }
    done
  ) >/dev/null 2>&1 3>&- 4>&- 5>&- &
  helpers+=($!)
fi

# Without what ties its network the program cannot be reached: it ends, in words, and is started again.
if [[ $net == pasta && -e pasta.pid ]]; then
  (
    tail --pid="$(<pasta.pid)" -s 1 -f /dev/null
    # It may have ended because the program has.
    sleep 0.5
    kill -0 "$inner" && : >network-over && kill -KILL "$inner"
  ) >/dev/null 2>&1 3>&- 4>&- 5>&- &
  helpers+=($!)
fi

{ wait "$inner"; } 2>/dev/null
status=$?
[[ -z $output ]] || wait "$output"
# What a helper has started goes with it; none goes on to its next command meanwhile, and the shell prints nothing of their ends.
if ((${#helpers[@]})); then
  disown "${helpers[@]}"
  kill -STOP "${helpers[@]}"
  for helper in "${helpers[@]}"; do pkill -KILL -P "$helper"; done
  kill -KILL "${helpers[@]}"
fi 2>/dev/null
[[ -e pasta.pid ]] && kill "$(<pasta.pid)" 2>/dev/null
echo "$status" >exit.new && mv exit.new exit
exit "$status"

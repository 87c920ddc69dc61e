#!/bin/bash
# The inside of launch.sh: root of its own user namespace only. Mounts the overlay, waits for the network, becomes bubblewrap.
#
#   inner.sh NET MODE HELD
set -euo pipefail
net=$1 mode=$2 held=$3

# Standing ready: its work is not known yet. When the agent goes, this ends.
if [[ $held == held ]]; then read -r _; fi
exec </dev/null
lower=$(<lower)
mapfile -d '' -t command <command

# Paths are short and relative: mount's options end at 4,096 bytes.
if [[ $mode == write ]]; then
  mount -t overlay -o "lowerdir=$lower,upperdir=u,workdir=w,userxattr" overlay m
else
  mount -t overlay -o "lowerdir=$lower,userxattr" overlay m
fi

# Nothing in private ranges can be reached: the gateway and the resolvers alone stay.
close_private() {
  local family=$1 gateway device resolver range
  shift
  read -r gateway device < <(ip "$family" route show default | sed -nE 's/^default via ([^ ]+) dev ([^ ]+).*/\1 \2/p' | head -n 1) || return 0
  [[ -n $gateway ]] || return 0
  ip "$family" route replace "$gateway" dev "$device"
  ip "$family" route replace default via "$gateway" dev "$device"
  while read -r resolver; do
    ip "$family" route replace "$resolver" via "$gateway" dev "$device" 2>/dev/null || true
  done < <(sed -nE 's/^nameserver +([0-9a-fA-F.:]+).*/\1/p' resolv.conf; cat open)
  while read -r range; do
    ip "$family" route del "$range" dev "$device" 2>/dev/null || true
    ip "$family" route add unreachable "$range" 2>/dev/null || true
  done < <(ip "$family" route show dev "$device" scope link proto kernel | cut -d' ' -f1 | grep /)
  for range in "$@"; do ip "$family" route add unreachable "$range" 2>/dev/null || true; done
}

if [[ $net != none ]]; then
  ip link set lo up
  echo ready >ready
  read -r _ <go
  if [[ $net == pasta && -e open ]]; then
    close_private -4 10.0.0.0/8 100.64.0.0/10 169.254.0.0/16 172.16.0.0/12 192.168.0.0/16
    close_private -6 fc00::/7
  elif [[ $net == relay ]]; then
    here=${0%/*}
    while read -r side from to; do
      [[ $side == inside ]] || continue
      setpriv --pdeathsig KILL "$NODE" "$here/relay.mjs" "$from" "$to" "ready-$from" >>relay.log 2>&1 3>&- 4>&- 5>&- &
      for ((tries = 0; tries < 500; tries++)); do
        [[ -e ready-$from ]] && break
        sleep 0.02
      done
    done <relays
  fi
fi

# The limits of a process hold for all that it starts. The first one is that of one file.
ulimit -c 0
ulimit -f "$TSUNAGI_FILE"
[[ -z $TSUNAGI_PROCESSES ]] || ulimit -u "$TSUNAGI_PROCESSES"
[[ -z $TSUNAGI_MEMORY ]] || ulimit -d "$TSUNAGI_MEMORY"
filter=${0%/*}/seccomp
[[ -e $filter ]] || filter=/dev/null
exec bwrap --args 9 "${command[@]}" 9<options 8>info 7<"$filter"

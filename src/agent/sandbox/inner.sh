#!/bin/bash
# The inside of launch.sh: root of its own user namespace only. Mounts the overlay, waits for the network, becomes bubblewrap.
#
#   inner.sh NET MODE RUNS
#
#   RUNS  told: what stands in the folder, which is the runner: standard input is for that | ready: the runner, with all that is the same
#         for every work: standard input says what the overlay lies upon (ended by a zero byte), and then is the runner's | held: what
#         stands in the folder once standard input says that it is there (with the KiB that a file of it may have)
set -euo pipefail
net=$1 mode=$2 runs=$3 here=${0%/*}
# What goes wrong from here on stands in the log of the work.
exec 2>&1

# All sandboxes share an account, and the kernel counts these for each account: no sandbox takes all of them. An older kernel has not
# every one of them.
share() {
  local name value
  while read -r name value; do
    [[ ! -e /proc/sys/user/$name ]] || echo "$value" >"/proc/sys/user/$name" || true
  done
} 2>/dev/null <<<'max_inotify_instances 16
max_inotify_watches 16384
max_fanotify_groups 2
max_fanotify_marks 256'
share

# The limits of a process hold for all that it starts. The first one is that of one file.
limit() {
  ulimit -c 0
  ulimit -f "$TSUNAGI_FILE"
  [[ -z $TSUNAGI_PROCESSES ]] || ulimit -u "$TSUNAGI_PROCESSES"
  [[ -z $TSUNAGI_MEMORY ]] || ulimit -d "$TSUNAGI_MEMORY"
}
filter=$here/seccomp
[[ -e $filter ]] || filter=/dev/null

# Paths are short and relative: mount's options end at 4,096 bytes.
project() {
  if [[ $mode == write ]]; then
    mount -t overlay -o "nosuid,nodev,lowerdir=$lower,upperdir=u,workdir=w,userxattr" overlay m
  else
    mount -t overlay -o "nosuid,nodev,lowerdir=$lower,userxattr" overlay m
  fi
}

if [[ $runs == ready ]]; then
  # What is mounted here later shows in the sandbox, too, since mounts are shared: so all of it is made before the work is known.
  mapfile -d '' -t command <"$here/command"
  limit
  exec {in}<&0 {out}>&1
  coproc box { exec bwrap --args 9 "${command[@]}" 6<&"$in" 9<"$here/options" 8>info 7<"$filter" >&"$out" {out}>&- {in}<&-; }
  # When the agent goes, this ends.
  IFS= read -r -d '' lower
  project
  echo >&"${box[1]}"
  wait "$box_PID"
  exit
fi
[[ $runs != told ]] || exec 6<&0
[[ $runs != held ]] || exec 5<&0
exec </dev/null

# Nothing in private ranges can be reached, nor anything on the machine's own link, its gateway included: that passes packets on and
# is spoken to by nobody. What stays is pasta's own address for names, and what the operator has named.
close_private() {
  local family=$1 names=$2 gateway='' device='' range address
  shift 2
  read -r gateway device < <(ip "$family" route show default | sed -nE 's/^default via ([^ ]+) dev ([^ ]+).*/\1 \2/p' | head -n 1) || true
  [[ -z $gateway ]] || ip "$family" route replace default via "$gateway" dev "$device" onlink
  # One process for all of them: a start costs more than a route. What is there already, or is not, is no error.
  {
    while read -r range; do
      echo "route del $range"
      echo "route add unreachable $range"
    done < <(ip "$family" route show proto kernel | awk '$1 ~ /\// { print $1 }')
    for range in "$@"; do echo "route add unreachable $range"; done
    if [[ -n $gateway ]]; then
      while read -r address; do
        [[ -z $address ]] || echo "route replace $address via $gateway dev $device onlink"
      done < <(echo "$names"; cat open)
    fi
  } | ip "$family" -force -batch - 2>/dev/null || true
}

# Nothing outside can be reached but the named ports of the named addresses: a table of their own leads there, all other tables nowhere.
only_named() {
  local family=$1 gateway='' device='' range address port
  read -r gateway device < <(ip "$family" route show default | sed -nE 's/^default via ([^ ]+) dev ([^ ]+).*/\1 \2/p' | head -n 1) || true
  [[ -n $gateway ]] || return 0
  {
    while read -r address port; do
      [[ $family == -6 && $address == *:* || $family == -4 && $address != *:* ]] || continue
      echo "rule add to $address ipproto tcp dport $port lookup 100"
      echo "route add $address via $gateway dev $device onlink table 100"
    done <only
    echo 'route add unreachable default metric 1'
    echo "route del default via $gateway dev $device"
    while read -r range; do
      echo "route del $range"
      echo "route add unreachable $range"
    done < <(ip "$family" route show proto kernel | awk '$1 ~ /\// { print $1 }')
  } | ip "$family" -force -batch - 2>/dev/null || true
  # What could not be closed is not left open.
  if ip "$family" route show default | grep -qv unreachable; then
    echo 'the network could not be closed'
    exit 125
  fi
}

if [[ $net != none ]]; then
  ip link set lo up
  # A program that takes every place of a server that others use as well is held here, where its connections leave.
  if [[ -e bounded ]]; then
    iptables-restore <bounded 2>/dev/null || true
    ip6tables-restore <bounded 2>/dev/null || true
  fi
  echo ready >ready
  read -r _ <go
  if [[ $net == pasta && -e open ]]; then
    close_private -4 "$(sed -n 's/^nameserver //p' resolv.conf)" 0.0.0.0/8 10.0.0.0/8 100.64.0.0/10 169.254.0.0/16 172.16.0.0/12 192.0.0.0/24 \
      192.168.0.0/16 198.18.0.0/15 224.0.0.0/4 240.0.0.0/4
    close_private -6 '' ::/96 fc00::/7 fe80::/10 fec0::/10 64:ff9b::/96 64:ff9b:1::/48 2001::/23 2002::/16 ff00::/8
  elif [[ $net == pasta && -e only ]]; then
    only_named -4
    only_named -6
  elif [[ $net == relay ]]; then
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

if [[ $runs == held ]]; then
  : >held
  # When the agent goes before it has told, this ends.
  read -r TSUNAGI_FILE <&5
  exec 5<&-
  : >begun
fi
lower=$(<lower)
mapfile -d '' -t command <command
# What is shown must be what the agent has there: a file system that is not mounted in here would show the empty folder below it.
if [[ -e shown ]]; then
  while read -r id path; do
    [[ $(stat -c %d:%i -- "$path" 2>/dev/null) == "$id" ]] || {
      echo "what should be shown from $path is not mounted here"
      exit 125
    }
  done <shown
fi
project
limit
# Its words hold secrets: they are gone from the disk before the program begins.
exec 9<options
rm -f options
exec bwrap --args 9 "${command[@]}" 8>info 7<"$filter"

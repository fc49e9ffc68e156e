#!/bin/bash
# share.sh start FOLDER DISK...   puts disks on the network for desktop systems: read-only, one folder a disk, one user, one password
# share.sh stop FOLDER            takes all of it down again
#
# The disks are mounted by lantern, and shared by the SMB server of the system (packages samba, smbclient), which runs for this share
# alone: with its own configuration, on a port of its own. PORT (4450), ADDRESS (127.0.0.1: only this computer; 0.0.0.0: all), NAME (keeper)
# and PASSWORD (made up) may be given. LANTERN: the command. FOLDER: a new folder, for what the share needs.
set -euo pipefail
fail() { echo "share.sh: $*" >&2; exit 1; }
lantern=${LANTERN:-lantern}
action=${1:-} folder=${2:-}
[ -n "$folder" ] || fail "start FOLDER DISK..., or stop FOLDER"

stop() {
  local failed=0 process=
  [ -s "$folder/smbd.pid" ] && process=$(cat "$folder/smbd.pid")
  if [ -n "$process" ]; then
    kill "$process" 2>/dev/null || true
    # A client that has a file open would hold the mount.
    for _ in $(seq 50); do kill -0 "$process" 2>/dev/null || break; sleep 0.1; done
  fi
  for disk in "$folder"/disks/*; do
    [ -d "$disk" ] || continue
    "$lantern" unmount "$disk" && rmdir "$disk" || failed=1
  done
  [ $failed = 0 ] || fail "a disk is still mounted, see above"
  rm -rf --one-file-system "$folder"
}

start() {
  shift 2
  [ $# -gt 0 ] || fail "name a disk"
  [ ! -e "$folder" ] || fail "$folder is there already"
  for tool in smbd pdbedit; do command -v $tool >/dev/null || fail "$tool is missing: apt-get install samba"; done
  local port=${PORT:-4450} name=${NAME:-keeper} password=${PASSWORD:-$(head -c 12 /dev/urandom | base64 | tr -d '/+=')}
  mkdir -p "$folder/disks" "$folder/private"
  chmod 700 "$folder" "$folder/private"
  folder=$(cd "$folder" && pwd)
  trap 'stop >/dev/null 2>&1 || true' ERR
  for disk in "$@"; do
    local place="$folder/disks/$(basename "$disk" | tr ':/' '__')"
    mkdir "$place"
    # Findings are told, and no reason not to share.
    "$lantern" mount "$disk" "$place" >/dev/null || [ $? = 1 ]
  done
  # The client's one user is the one who shares, by another name and password.
  echo "$(id -un) = $name" >"$folder/users"
  cat >"$folder/smb.conf" <<C
[global]
  smb ports = $port
  interfaces = lo ${ADDRESS:-127.0.0.1}
  bind interfaces only = yes
  server min protocol = SMB3
  smb encrypt = required
  security = user
  map to guest = never
  username map = $folder/users
  passdb backend = tdbsam:$folder/private/users.tdb
  private dir = $folder/private
  state directory = $folder/private
  cache directory = $folder/private
  lock directory = $folder/private
  pid directory = $folder
  ncalrpc dir = $folder/private/ncalrpc
  log file = $folder/log.smbd
  disable netbios = yes
  load printers = no
[disks]
  path = $folder/disks
  read only = yes
  valid users = $(id -un)
C
  printf '%s\n%s\n' "$password" "$password" | pdbedit -s "$folder/smb.conf" -t -a -u "$(id -un)" >/dev/null
  smbd -D -s "$folder/smb.conf"
  # It is there once it answers.
  for _ in $(seq 100); do (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null && break; sleep 0.1; done
  trap - ERR
  cat <<C
To hand over:
  address   smb://${ADDRESS:-127.0.0.1}:$port/disks
  user      $name
  password  $password
  Windows   does not take a port: forward 445 to it, then \\\\${ADDRESS:-127.0.0.1}\\disks
  Linux     mount -t cifs -o ro,port=$port,username=$name,vers=3.1.1,seal //${ADDRESS:-127.0.0.1}/disks /mnt
End it with: ${0##*/} stop $folder
C
}

case $action in
  start) start "$@" ;;
  stop) [ -d "$folder" ] || fail "$folder is no share"; folder=$(cd "$folder" && pwd); stop ;;
  *) fail "start or stop?" ;;
esac

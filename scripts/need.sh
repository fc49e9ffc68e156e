#!/bin/bash
# Installs what is missing of scripts/packages.txt. Quick when nothing is. As root, or with sudo.
set -euo pipefail
list=$(sed 's/#.*//' "$(dirname "$0")/packages.txt" | tr -s ' \n' '\n\n' | sed '/^$/d')
missing=()
for package in $list; do
  [ "$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null)" = installed ] || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0
echo "installing: ${missing[*]}"
as_root=()
if [ "$(id -u)" -ne 0 ]; then
  command -v sudo >/dev/null || { echo "need.sh: these packages are missing and only root can install them: ${missing[*]}" >&2; exit 1; }
  as_root=(sudo)
fi
log=$(mktemp)
if ! { "${as_root[@]}" apt-get update && DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
  echo "need.sh: apt-get could not install ${missing[*]}: $(tail -n 1 "$log")" >&2
  exit 1
fi
rm -f "$log"

#!/usr/bin/env bash
# Installs from Debian's packages what is missing: packages.sh PROGRAM=PACKAGE...
# PROGRAM is a program's name, or a path, to look for; PACKAGE is what brings it.
set -euo pipefail
missing=()
for want in "$@"; do
  program=${want%%=*}
  [ -e "$program" ] || command -v "$program" >/dev/null 2>&1 || missing+=("${want#*=}")
done
[ ${#missing[@]} -eq 0 ] && exit 0
if [ "$(id -u)" -ne 0 ] || ! command -v apt-get >/dev/null; then
  echo "missing: ${missing[*]}. Install them first: sudo apt-get install ${missing[*]}" >&2
  exit 1
fi
echo "Installing ${missing[*]} from Debian's packages; this takes a minute or two." >&2
export DEBIAN_FRONTEND=noninteractive
# Without this Debian makes a cluster of its own on port 5432.
mkdir -p /etc/postgresql-common
grep -qs '^create_main_cluster' /etc/postgresql-common/createcluster.conf ||
  echo 'create_main_cluster = false' >>/etc/postgresql-common/createcluster.conf
log=$(mktemp)
trap 'rm -f "$log"' EXIT
if ! { apt-get -o DPkg::Lock::Timeout=300 update &&
  apt-get -o DPkg::Lock::Timeout=300 install -y --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
  tail -n 5 "$log" >&2
  echo "could not install ${missing[*]}" >&2
  exit 1
fi

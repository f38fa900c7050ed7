#!/bin/sh
# Installs the Debian packages that are missing: packages.sh NAME=FILE ...
# where FILE shows that the package NAME is there. As root with apt-get, else
# with sudo if that asks nothing; else it says what to install, and stops.
set -eu
missing=
for pair in "$@"; do
	name=${pair%%=*} file=${pair#*=}
	set -- $file # the file may be a pattern
	[ -e "$1" ] || missing="$missing $name"
done
[ -z "$missing" ] && exit 0
install='apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends'"$missing"
if [ "$(id -u)" = 0 ]; then
	echo "Installing:$missing"
	exec sh -c "$install" >/dev/null
elif sudo -n true 2>/dev/null; then
	echo "Installing with sudo:$missing"
	exec sudo sh -c "$install" >/dev/null
fi
echo "These Debian packages are missing, and only root can install them. Please run:" >&2
echo "    sudo apt-get install$missing" >&2
exit 1

#!/usr/bin/env bash
# scripts/mysql-server.sh FOLDER: puts a MySQL server into FOLDER, with all that it needs, and FOLDER/mysqld that starts
# it. Stable Debian has none, and its development branch has: nothing of that is installed on the machine.
set -euo pipefail
folder=$(mkdir -p "$1" && cd "$1" && pwd)
[ -x "$folder/mysqld" ] && exit

# from where this machine has its own packages
repository() {
  apt-get indextargets --format '$(ORIGIN) $(COMPONENT) $(REPO_URI)' 'Created-By: Packages' |
    awk '$1 == "Debian" && $2 == "main" && !found { print $3; found = 1 }'
}
from=$(repository)
[ -n "$from" ] || { apt-get update -qq && from=$(repository); }
[ -n "$from" ] || { echo "apt has no list of Debian's packages here" >&2; exit 1; }

apt=$(mktemp -d)
trap 'rm -rf "$apt"' EXIT
mkdir -p "$apt"/{lists,archives}/partial "$apt/parts"
# what the machine has installed counts for nothing
: > "$apt/status"
echo "deb [signed-by=/usr/share/keyrings/debian-archive-keyring.gpg] $from sid main" > "$apt/sources.list"
cat > "$apt/apt.conf" << END
Dir::Etc::SourceList "$apt/sources.list";
Dir::Etc::SourceParts "$apt/parts";
Dir::Etc::PreferencesParts "$apt/parts";
Dir::State::Lists "$apt/lists";
Dir::State::Status "$apt/status";
Dir::Cache::Archives "$apt/archives";
Dir::Cache::pkgcache "";
Dir::Cache::srcpkgcache "";
APT::Install-Recommends "false";
Acquire::Retries "3";
APT::Sandbox::User "root";
END
export APT_CONFIG=$apt/apt.conf
apt-get update -qq
apt-get install -qq -y --download-only mysql-server-core > /dev/null
for package in "$apt"/archives/*.deb; do dpkg-deb -x "$package" "$folder/root"; done

# it runs with the C library that came with it
loader=$(find "$folder/root" -name 'ld-linux-x86-64.so.2' -type f)
cat > "$folder/mysqld" << END
#!/bin/sh
exec "$loader" --library-path "$(dirname "$loader"):$folder/root/usr/lib/mysql/private" \\
  "$folder/root/usr/sbin/mysqld" "\$@" --basedir="$folder/root/usr" --plugin-dir="$folder/root/usr/lib/mysql/plugin"
END
chmod +x "$folder/mysqld"
"$folder/mysqld" --no-defaults --version

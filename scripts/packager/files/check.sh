# What scripts/package --check runs in a clean system.
says() { grep -q "$1" || { echo "it does not say: $1" >&2; exit 1; }; }
dpkg -i /first.deb >/dev/null
grainkeep version | says '^grainkeep 0.1.0 (commit '
test -f /usr/share/man/man1/grainkeep-dump.1.gz
test -f /usr/share/bash-completion/completions/grainkeep
grep -q filippo.io/age /usr/share/doc/grainkeep/components.txt
[ "$(stat -c '%a %U' /var/lib/grainkeep)" = '700 grainkeep' ]
[ "$(stat -c '%a %G' /etc/grainkeep)" = '750 grainkeep' ]
chown -R grainkeep: /srv/data
mkdir -p /srv/dumps
chown grainkeep: /srv/dumps
cat >/etc/grainkeep/grainkeep.toml <<END
[source.ferry]
engine = "sqlite"
path = "/srv/data"
[keep.barn]
folder = "/srv/dumps/barn"
[job.nightly]
source = "ferry"
databases = ["bookings.db", "cargo.db"]
keep = "barn"
full = "02:30"
drill = "04:00 on sunday"
accept = ["same-file-system"]
END
as() { setpriv --reuid grainkeep --regid grainkeep --clear-groups env HOME=/nonexistent "$@"; }
as grainkeep keep create barn 2>/dev/null
as grainkeep dump nightly >/dev/null 2>&1
as grainkeep drill nightly 2>/dev/null | says '^proven'
as grainkeep schedule nightly | says 'full dump'
dpkg -i /second.deb >/dev/null
as grainkeep list | says 'nightly/bookings.db .* proven'
as grainkeep status | says 'good$'
dpkg -r grainkeep >/dev/null
test ! -e /usr/bin/grainkeep
test -f /etc/grainkeep/grainkeep.toml
test -d /var/lib/grainkeep
dpkg -P grainkeep >/dev/null
test ! -d /var/lib/grainkeep
test -f /srv/dumps/barn/grainkeep.json

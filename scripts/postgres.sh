# Sourced: starts a PostgreSQL server of its own for the tests, in a folder that goes away; sets TIDESTEP_TEST_POSTGRES.
pg_bin=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | tail -1 || true)
if [ -z "$pg_bin" ] || [ ! -x "$pg_bin/initdb" ]; then
  # No cluster of the machine's own is wanted, only the programs.
  mkdir -p /etc/postgresql-common 2>/dev/null && grep -qs create_main_cluster /etc/postgresql-common/createcluster.conf || echo "create_main_cluster = false" >>/etc/postgresql-common/createcluster.conf
  need initdb-of-tidestep postgresql
  pg_bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
fi
pg_home=$(mktemp -d)
pg_as=()
if [ "$(id -u)" = 0 ]; then
  chown postgres "$pg_home"
  pg_as=(runuser -u postgres --)
fi
pg_port=$((20000 + RANDOM % 20000))
(cd "$pg_home" && "${pg_as[@]}" "$pg_bin/initdb" -D "$pg_home/data" -A trust -U tidestep >/dev/null && "${pg_as[@]}" "$pg_bin/pg_ctl" -D "$pg_home/data" -w -l "$pg_home/log" -o "-p $pg_port -c listen_addresses=127.0.0.1 -k $pg_home -c fsync=off" start >/dev/null)
export TIDESTEP_TEST_POSTGRES="Host=127.0.0.1;Port=$pg_port;Username=tidestep;Database=postgres"
pg_end() { (cd / && "${pg_as[@]}" "$pg_bin/pg_ctl" -D "$pg_home/data" -m immediate stop >/dev/null 2>&1); rm -rf "$pg_home"; }

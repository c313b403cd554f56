# Sourced after demo-up.sh: the four who work on the demo's estate, each with roles of their own and a password that is made here.
people() {
  [ -e "$TIDESTEP_DATA/demo-password" ] || (umask 077 && tr -dc 'a-z0-9' </dev/urandom | head -c 16 >"$TIDESTEP_DATA/demo-password") || true
  joins "Iris Vane" look keep administer
  joins "Wren Hale" look survey plan keep
  joins "Odo Marsh" look survey run
  joins "Tamsin Reed" look sign
}
home_of() { echo "$work/people/${1// /-}"; }
# joins NAME ROLES...: is invited, chooses the password, and signs in; where they are there already, they sign in.
joins() {
  local name=$1 link=()
  shift
  if ! grep -q "\"name\": \"$name\"" <<<"$("$bin/tidestep" person list --format json)"; then
    link=(--invitation "$("$bin/tidestep" person invite "$name" --role "$@" --format json | sed -n 's/^  "link": "\(.*\)",/\1/p')")
  fi
  as "$name" login --name "$name" "${link[@]}" --password-file "$TIDESTEP_DATA/demo-password" >/dev/null
}
# as NAME COMMAND...: what somebody does.
as() { TIDESTEP_HOME=$(home_of "$1") "$bin/tidestep" "${@:2}"; }

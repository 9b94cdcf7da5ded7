#!/usr/bin/env bash
# Sends made-up requests to every call of the API, as an app and as an
# operator, and says where an answer is a fault of the service or is not what
# the API's document says. Takes the binary, and how many requests a call gets.
set -euo pipefail
cd "$(dirname "$0")/.."
binary=${1:-target/release/dispatcher}
examples=${2:-60}
tools=target/fuzz-api
[ -x "$tools/bin/schemathesis" ] || { python3 -m venv "$tools" && "$tools/bin/pip" install --quiet schemathesis==4.32.5; }

data=$(mktemp -d)
"$binary" demo --port 0 --data "$data" >"$data/told" 2>"$data/log" &
service=$!
trap 'kill "$service" 2>/dev/null || true; wait "$service" 2>/dev/null || true; rm -rf "$data"' EXIT
until grep -q 'Ctrl-C' "$data/told"; do
  kill -0 "$service" || { cat "$data/log"; exit 1; }
  sleep 0.2
done
# shellcheck disable=SC1091
source "$data/demo.env"

checks=not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance
failed=0
for key in "$DISPATCHER_APP_KEY" "$DISPATCHER_KEY"; do
  # Engines that are down answer 502 and 504, which the document has. Changing
  # the root key and signing out would end the run.
  SCHEMATHESIS_HOOKS=fuzz_api_hooks PYTHONPATH=scripts "$tools/bin/schemathesis" run "$DISPATCHER_URL/api/openapi.json" \
    --url "$DISPATCHER_URL" --header "Authorization: Bearer $key" --checks "$checks" --max-examples "$examples" \
    --exclude-operation-id changeRootKey --exclude-operation-id signOut --exclude-operation-id followJob \
    --exclude-operation-id revokeKey --phases fuzzing,coverage --request-timeout 60 --continue-on-failure --no-color || failed=1
done
exit "$failed"

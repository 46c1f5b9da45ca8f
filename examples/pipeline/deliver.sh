#!/usr/bin/env bash
# One change, the way a pipeline brings it to the network: tried out in a lab of simulated devices first, then proposed, approved by a person,
# delivered, and told. Every step ends the run when it fails, with Oast's exit code.
#
#   deliver.sh ESTATE REASON [OUT]
#
# OUT (default: public) gets summary.md for the merge request, junit.xml, and the transcripts. APPROVED_WITHIN is how many seconds a person has.
set -euo pipefail

estate=$(cd "$1" && pwd)
reason=$2
out=${3:-public}
mkdir -p "$out"
out=$(cd "$out" && pwd)

lab=$(mktemp -d)
tear_down() {
    oast sim stop --estate "$lab/estate" -q >/dev/null 2>&1 || true
    rm -rf "$lab"
}
trap tear_down EXIT

echo "--- lint"
oast lint --estate "$estate"

echo "--- the lab: what the devices started with, and this change"
cp -R "$estate" "$lab/estate"
rm -rf "$lab/estate/.oast" "$lab/estate/changes" "$lab/estate/known_hosts"
for secret in "$(dirname "$estate")"/*-secrets.toml "$(dirname "$estate")"/*.key; do
    [ ! -e "$secret" ] || cp "$secret" "$lab/"
done
oast sim start --estate "$lab/estate" -q
oast devices trust --estate "$lab/estate" --yes -q >/dev/null
oast push --estate "$lab/estate" -m "lab: $reason" --yes -q | tail -1
oast verify --estate "$lab/estate" --wait 30 -q | tail -1

echo "--- proposed"
oast push --estate "$estate" -m "$reason" --propose -q | tail -3
oast report --estate "$estate" --format markdown >"$out/summary.md"

echo "--- waiting for somebody to approve it"
until oast change list --estate "$estate" --last 1 --format json | grep -q '"state": "approved"'; do
    if [ "$SECONDS" -gt "${APPROVED_WITHIN:-3600}" ]; then
        echo "nobody has approved it" >&2
        exit 1
    fi
    sleep 1
done

echo "--- delivered"
code=0
oast push --estate "$estate" --change last --yes -q || code=$?
oast report --estate "$estate" --format markdown >"$out/summary.md"
oast report --estate "$estate" --format junit >"$out/junit.xml"
cp -R "$estate/.oast/log/$(ls "$estate/.oast/log" | tail -1)" "$out/log"
exit "$code"

#!/usr/bin/env bash
# One change, the way a pipeline brings it to the network: tried out in a lab of simulated devices first, then proposed, approved by a person,
# delivered and reported. Every step ends the run when it fails, with Oast's exit code and what Oast said.
#
#   deliver.sh ESTATE REASON [OUT]
#
# OUT (default: public) gets summary.md for the merge request, junit.xml, the transcripts of the delivery, and in lab/ what happened in the lab.
# APPROVED_WITHIN is how many seconds a person has to approve it.
set -euo pipefail

estate=$(cd "$1" && pwd)
reason=$2
out=${3:-public}
mkdir -p "$out"
out=$(cd "$out" && pwd)

lab=$(mktemp -d)
tear_down() {
    # The logs of the lab are kept, also when something failed there.
    mkdir -p "$out/lab"
    cp -R "$lab/estate/.oast/log/." "$out/lab/" 2>/dev/null || true
    cp "$lab/estate/.oast/sim/simulator.log" "$out/lab/" 2>/dev/null || true
    oast sim stop --estate "$lab/estate" -q >/dev/null 2>&1 || true
    rm -rf "$lab"
}
trap tear_down EXIT

# Runs a step and shows the end of what it said; all of it where the step fails.
step() {
    local lines=$1 code=0
    shift
    "$@" >"$out/step.txt" 2>&1 || code=$?
    if [ "$code" -eq 0 ]; then
        tail -n "$lines" "$out/step.txt"
    else
        cat "$out/step.txt"
        echo "failed with exit code $code: $*" >&2
    fi
    rm -f "$out/step.txt"
    return "$code"
}

echo "--- lint"
step 1 oast lint --estate "$estate"

echo "--- the lab: what the devices started with, and this change"
# The working data is left out: another command may be writing to it at this moment.
mkdir "$lab/estate"
tar -C "$estate" --exclude=./.oast --exclude=./changes --exclude=./known_hosts -cf - . | tar -C "$lab/estate" -xf -
for secret in "$(dirname "$estate")"/*-secrets.toml "$(dirname "$estate")"/*.key; do
    [ ! -e "$secret" ] || cp "$secret" "$lab/"
done
step 1 oast sim start --estate "$lab/estate" -q
# Devices that came later, as new devices do, are not in network.yaml: the lab does without them, and says so.
simulated=$(oast sim status --estate "$lab/estate" --format json | python3 -c 'import json, sys; print("\n".join(json.load(sys.stdin)["devices"]))')
in_lab=()
for device in $(oast devices --estate "$lab/estate" --format json | python3 -c 'import json, sys; print(*(d["name"] for d in json.load(sys.stdin)["devices"]))'); do
    if grep -qx -- "$device" <<<"$simulated"; then
        in_lab+=("$device")
    else
        echo "not in the lab, and not tried there: $device"
    fi
done
on="name in ($(IFS=,; echo "${in_lab[*]}"))"
# To the lab they are out of service, so that nothing is expected of their neighbors there.
if ! grep -q '^\[inventory\]' "$lab/estate/oast.toml"; then
    printf '\n[inventory]\nin_service = "%s"\n' "$on" >>"$lab/estate/oast.toml"
fi
step 1 oast devices trust --estate "$lab/estate" --on "$on" --yes -q
# A timer that a busy machine can keep; in the lab nobody waits for a device that is lost.
step 1 oast push --estate "$lab/estate" -m "lab: $reason" --on "$on" --revert-timer 120 --yes -q
step 1 oast verify --estate "$lab/estate" --on "$on" --wait 60 -q

echo "--- proposed"
step 3 oast push --estate "$estate" -m "$reason" --propose -q
oast report --estate "$estate" --format markdown >"$out/summary.md"

echo "--- waiting for a person to approve it: oast change approve last"
until oast change list --estate "$estate" --last 1 --format json | grep -q '"state": "approved"'; do
    if [ "$SECONDS" -gt "${APPROVED_WITHIN:-3600}" ]; then
        echo "not approved within ${APPROVED_WITHIN:-3600} s" >&2
        exit 1
    fi
    sleep 1
done

echo "--- delivered"
code=0
oast push --estate "$estate" --change last --yes -q || code=$?
oast report --estate "$estate" --format markdown >"$out/summary.md"
oast report --estate "$estate" --format junit >"$out/junit.xml"
rm -rf "$out/log"
cp -R "$estate/.oast/log/$(ls "$estate/.oast/log" | tail -1)" "$out/log"
if [ "$code" -eq 0 ]; then
    echo "--- merge"
    echo "The change is delivered and verified. Commit its record with the branch, then merge:"
    echo "    git add changes && git commit -m \"Record: $reason\" && git push"
    echo "    paste $out/summary.md into the merge request, and merge it"
fi
exit "$code"

#!/bin/sh
# Builds a media the same way each time, and keeps what tells of it. For pipelines: no terminal, no questions.
#
#     build-media.sh STACK OUT
set -eu
stack=$1 out=$2
mkdir -p "$out"
# Inputs that are not those that were locked stop it; so does whatever `plan` refuses.
if [ -e "${stack%.toml}.lock" ]; then
    set -- --locked
else
    set --
fi
neatstack plan "$stack" --json >"$out/plan.json"
neatstack build "$stack" --digest --replace --json "$@" >"$out/ledgers.json"
# A page for people, and a check by reading everything back.
neatstack report "$stack" -o "$out/media.html" --replace
for media in "$(dirname "$stack")"/out/*.iso; do
    neatstack check "$media" --ledger "${media%.iso}.ledger.json" --json >"$out/$(basename "$media" .iso).check.json"
done

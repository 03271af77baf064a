#!/bin/sh
# Timing in CI, on any service: worst cases on paper with room to spare, captures of the board, and what is left to read.
#
#   MODEL      the model file                                     row_unit.toml
#   CAPTURES   a pattern of captures; empty: paper alone          captures/*.vcd
#   ROOM       every figure must be able to move so far           5 %
#   BASELINE   a folder of an earlier run, to say what got worse
#   OUT        where the artefacts go: *.xml (JUnit), page.html, *.json (the next baseline)
#   TACHYS     the command; without it, it is installed here
set -u
MODEL=${MODEL:?name the model file}
CAPTURES=${CAPTURES-}
ROOM=${ROOM:-5 %}
OUT=${OUT:-timing}
mkdir -p "$OUT"
if [ -z "${TACHYS-}" ]; then
    python3 -m venv .timing && .timing/bin/pip install --quiet tachys || exit 2
    TACHYS=.timing/bin/tachys
fi
status=0
run() { # a command whose status counts: the worst one is ours
    "$@"
    got=$?
    [ "$got" -gt "$status" ] && status=$got
    return 0
}
before() { # --baseline FILE, where there was an earlier run
    [ -n "${BASELINE-}" ] && [ -f "$BASELINE/$1" ] && printf '%s' "--baseline=$BASELINE/$1"
}

# shellcheck disable=SC2046  # nothing, or one word
run "$TACHYS" bounds "$MODEL" --strict --junit "$OUT/paper.xml" $(before paper.json)
"$TACHYS" bounds "$MODEL" --format json > "$OUT/paper.json"
run "$TACHYS" headroom "$MODEL" --keep "$ROOM"
if [ -n "$CAPTURES" ]; then
    # shellcheck disable=SC2046
    run "$TACHYS" check "$MODEL" "$CAPTURES" --strict --junit "$OUT/board.xml" $(before board.json)
    "$TACHYS" check "$MODEL" "$CAPTURES" --format json > "$OUT/board.json"
fi
# shellcheck disable=SC2086  # the pattern is to be filled in
"$TACHYS" report "$MODEL" $CAPTURES -o "$OUT/page.html"
exit "$status"

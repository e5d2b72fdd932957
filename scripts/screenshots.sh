#!/bin/sh
# Makes the pictures in docs/screenshots from the demo's data.
# Needs the packages xvfb, xterm, imagemagick, fonts-dejavu-core and chromium, and a built target/release/cavrith.
set -eu

here=$(cd "$(dirname "$0")/.." && pwd)
shots=$here/docs/screenshots
work=$(mktemp -d)
number=97
cleanup() {
    [ -z "${server-}" ] || kill "$server" 2>/dev/null || true
    "$work/bin/cavrith" demo --again "$work/story" >/dev/null 2>&1 || true
    rm -rf "$work"
}
trap cleanup EXIT

mkdir -p "$work/bin" "$shots"
cp "$here/target/release/cavrith" "$work/bin/"
PATH=$work/bin:$PATH
# A picture shows what a pager would turn.
PAGER=cat
export PATH PAGER

Xvfb ":$number" -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
DISPLAY=:$number
export DISPLAY
sleep 1

# shot NAME SIZE FOLDER HOME COMMAND: runs the command in a terminal that fills the screen, and takes a picture when it is done.
shot() {
    name=$1 size=$2 folder=$3 home=$4 line=$5
    rm -f "$work/done"
    cat > "$work/play" <<PLAY
cd "$folder"
export CAVRITH_HOME="$home"
printf '\033[2m%s \$\033[0m %s\n' "$(basename "$(dirname "$folder")")" "$line"
$line
touch "$work/done"
sleep 120
PLAY
    # Columns and rows that fill 1280x800, by the size of the letters.
    case $size in
        8) fill=178x55 ;;
        19) fill=80x25 ;;
        *) fill=125x38 ;;
    esac
    xterm -geometry $fill+0+0 -fa 'DejaVu Sans Mono' -fs "$size" -bg '#f8f8f4' -fg '#202428' -b 14 +sb -e sh "$work/play" &
    terminal=$!
    waited=0
    while [ ! -e "$work/done" ] && [ $waited -lt 1200 ]; do sleep 0.1; waited=$((waited + 1)); done
    sleep 0.7
    import -window root -colors 64 "$shots/$name.png"
    kill $terminal
    wait $terminal 2>/dev/null || true
}

cavrith demo "$work/story" >/dev/null
ida=$work/story/ida tove=$work/story/tove jonas=$work/story/jonas

# A step that fetches, from a web site that is a folder here.
mkdir -p "$work/office" "$work/sea/ida" "$work/sea/home"
cp -r "$ida/timetable" "$work/sea/ida/"
cp -r "$work/story/depot" "$work/sea/depot"
printf 'october.csv\nnovember.csv\n' > "$work/office/list"
for month in october november december; do printf 'day,low,high\n1,05:02,11:20\n' > "$work/office/$month.csv"; done
"$work/story/harbour/bin/busybox" httpd -f -p 127.0.0.1:8123 -h "$work/office" &
office=$!
printf '[recording.mirrors]\n"http://tides.harbour.example/" = "http://127.0.0.1:8123/"\n' > "$work/sea/home/config.toml"
cat "$here/demo/project/cavrith.toml" - > "$work/sea/ida/timetable/cavrith.toml" <<'SPEC'

[[steps]]
name    = "bring the tides"
at      = "build"
network = "recorded"
run     = """
mkdir -p /srv/tides
for month in $(wget -q -O - http://tides.harbour.example/list); do
    wget -q -O /srv/tides/$month http://tides.harbour.example/$month
done
"""
SPEC
(cd "$work/sea/ida/timetable" && CAVRITH_HOME=$work/sea/home cavrith lock -q)
cat > "$work/sea/moves" <<MOVES
cavrith record
cp cavrith.records/bring-the-tides.record ../earlier.record
printf '\n# december is out, and the step asks for it by itself\n'
sed -i 's|^done|done; wget -q -O /srv/tides/december.csv http://tides.harbour.example/december.csv|' cavrith.toml
cavrith lock
cavrith build
printf '\n'
cavrith record --quiet
cavrith record --review ../earlier.record cavrith.records/bring-the-tides.record
MOVES
shot record 8 "$work/sea/ida/timetable" "$work/sea/home" "tail -n 12 cavrith.toml; . $work/sea/moves"
kill $office

mkdir -p "$work/draft/timetable"
cp "$here/demo/project/draft.toml" "$work/draft/timetable/cavrith.toml"
cp -r "$work/story/depot" "$work/depot"
shot check 8 "$work/draft/timetable" "$work/none" "cavrith check"
shot build 12 "$ida/timetable" "$work/fresh" "cavrith build"
printf '[env]\nSITE_PORT = "9000"\nTIDE_URL  = "http://localhost:${SITE_PORT}/tides"\n' > "$ida/timetable/team.toml"
cp "$ida/timetable/cavrith.toml" "$work/kept.toml"
sed -i 's|^spec = 1|spec = 1\ninclude = ["team.toml"]|' "$ida/timetable/cavrith.toml"
shot show 12 "$ida/timetable" "$work/fresh" "cavrith show --variant release"
cp "$work/kept.toml" "$ida/timetable/cavrith.toml"
rm "$ida/timetable/team.toml"
shot contents 8 "$ida/timetable" "$work/fresh" "cavrith contents; cavrith contents --format spdx-json | head -30"
shot verify-same 12 "$tove/timetable" "$tove/home" "cavrith verify"
# What somebody changed by hand, and its adoption.
cp "$tove/timetable/cavrith.toml" "$tove/timetable/cavrith.lock" "$work/"
inside() {
    CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" run -q --account "$1" -- sh -c "$2"
}
inside root "printf 'depth = 8\\npier = \"north\"\\n' > /etc/harbour.conf; mkdir -p /opt/charts; for i in 1 2 3; do echo \$i > /opt/charts/skerry-\$i.csv; done; chmod 750 /opt/charts"
inside root "printf '#!/bin/sh\\nexec quill serve --port 8081 /srv/site\\n' > /bin/preview; chmod 755 /bin/preview; rm /bin/vi; ln -s preview /bin/look"
inside crew "echo 'export TIDE_STATION=7' >> ~/.profile; echo ls > ~/.ash_history; echo x > ~/notes.txt"
shot drift 12 "$tove/timetable" "$tove/home" "cavrith drift"
shot adopt 8 "$tove/timetable" "$tove/home" "cavrith drift --adopt --yes"
CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" stop -q
CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" drop --yes -q
rm -rf "$tove/timetable/adopted"
cp "$work/cavrith.toml" "$work/cavrith.lock" "$tove/timetable/"
# The roster of a large crew: on a terminal, and as a page.
cargo build -q -p cavrith-core --example crew --manifest-path "$here/Cargo.toml"
cp -r "$ida/timetable" "$work/crewed"
rm -rf "$work/crewed/cavrith.team"
"$here/target/debug/examples/crew" "$work/crewed" 300 "$(date +%s%3N)"
shot roster 12 "$work/crewed" "$work/crew" "cavrith roster --color always reports | sed -n '1,24p;/members:/,$ p'"
(cd "$work/crewed" && CAVRITH_HOME=$work/crew cavrith roster reports --html "$work/roster.html" >/dev/null)
page() {
    sed "s#</body>#<script>$3</script></body>#" "$work/roster.html" > "$work/page.html"
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size="$2" --user-data-dir="$work/profile" \
        --screenshot="$shots/$1.png" "file://$work/page.html" >/dev/null 2>&1
    mogrify -colors 128 "$shots/$1.png"
}
page roster-page 1280,800 ""
page roster-member 1280,800 "document.querySelector('tbody th button').click(); document.querySelector('section').hidden = true"
# A team's repository with its depot in it, and a folder in which Ida shares finished layers.
mkdir -p "$work/team" "$work/nils/desk" "$work/nils/home" "$work/layers" "$work/lead"
cp -r "$ida/timetable" "$work/depot" "$work/team/"
mv "$work/team/depot" "$work/team/timetable/depot"
(
    cd "$work/team/timetable"
    sed -i 's|"../../depot"|"depot"|' cavrith.toml
    printf 'Start at the pier.\n' > CONTRIBUTING.md
    printf '[cache]\nfolder = "%s"\n' "$work/layers" | tee "$work/lead/config.toml" > "$work/nils/home/config.toml"
    CAVRITH_HOME=$work/lead cavrith lock -q
    CAVRITH_HOME=$work/lead cavrith seal -q --publish --sign --key "$ida/key"
    git init -q
    git add -Af
    git -c user.name=Ida -c user.email=ida@brindle.example commit -qm "The timetable"
) >/dev/null 2>&1
shot join 12 "$work/nils/desk" "$work/nils/home" "cavrith join --yes $work/team/timetable"
CAVRITH_HOME=$work/nils/home cavrith stop --all >/dev/null 2>&1
# Three more revisions, and the search for the one that broke something.
(
    cd "$work/team/timetable"
    commit() {
        CAVRITH_HOME=$work/lead cavrith lock -q
        git -c user.name=Ida -c user.email=ida@brindle.example commit -qam "$1"
    }
    sed -i 's/depth = 7/depth = 8/' cavrith.toml
    commit "Deeper water at the pier"
    sed -i 's/SAILINGS_YEAR = "2027"/SAILINGS_YEAR = "2028"/' cavrith.toml
    commit "Next year's sailings"
    sed -i 's/"ruler" = 120/"ruler" = 100/' cavrith.toml
    CAVRITH_HOME=$work/lead cavrith lock -q
    CAVRITH_HOME=$work/lead cavrith seal -q --sign --key "$ida/key"
    commit "Shorter lines, sealed"
) >/dev/null 2>&1
shot history 12 "$work/team/timetable" "$work/lead" "cavrith history --last 3; cavrith pinpoint HEAD~3 -- grep -q 'depth = 7' /etc/harbour.conf"
cavrith demo --spoil "$(ls "$jonas"/home/store/layers/*/root/opt/quill/2.4.1/bin/quill)"
sed -i 's/SITE_PORT = "8080"/SITE_PORT = "8081"/' "$jonas/timetable/cavrith.toml"
(cd "$jonas/timetable" && CAVRITH_HOME=$jonas/home cavrith build -q 2>/dev/null)
shot verify-different 12 "$jonas/timetable" "$jonas/home" "cavrith verify"
cat >> "$ida/timetable/cavrith.toml" <<'SPEC'

[[steps]]
name = "stamp the site"
at   = "build"
run  = "mkdir -p /srv/drawn; cd /srv/drawn; date > at; echo $$ > own.pid; tar cz at > all.tar.gz; sha256sum at > sums"
SPEC
shot seal-refused 12 "$ida/timetable" "$work/fresh" "cavrith seal --why"
cat "$here/demo/project/more.toml" > "$work/more.toml"
CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" start --wait -q
cp "$tove/timetable/cavrith.toml" "$work/kept.toml"
cat "$work/more.toml" >> "$tove/timetable/cavrith.toml"
sed -i 's/SITE_PORT = "8080"/SITE_PORT = "8080"\nTIDE      = "high"/' "$tove/timetable/cavrith.toml"
shot status 12 "$tove/timetable" "$tove/home" "cavrith run -- sh -c 'httpd -p 9090; id -un'; cavrith status; cavrith apply; cavrith list"
CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" stop -q
cp "$work/kept.toml" "$tove/timetable/cavrith.toml"
# A member's own: settings, an editor, SSH; and a colleague let in.
mkdir -p "$work/dots" "$work/tove"
printf 'set number\n' > "$work/dots/.vimrc"
cat > "$tove/home/config.toml" <<CONFIG
[personal]
git     = { name = "Tove", email = "tove@brindle.example" }
aliases = { ll = "ls -l", gs = "git status" }
editor  = "lamp"

[personal.dotfiles]
from = "$work/dots"

[editors.lamp]
command = ["lamp", "--host", "{host}", "{path}:{line}"]
CONFIG
printf '#!/bin/sh\nexit 0\n' > "$work/bin/lamp"
chmod 755 "$work/bin/lamp"
HOME=$work/tove
export HOME
# Shows a command before it is run.
cat > "$work/bin/say" <<'SAY'
#!/bin/sh
printf '\n\033[2m$\033[0m %s\n' "$(printf '%s' "$*" | sed "s|-F [^ ]* ||; s|$HOME|~|g")"
exec "$@"
SAY
chmod 755 "$work/bin/say"
cat > "$work/bin/own" <<'OWN'
say cavrith check --personal
say cavrith start --wait
say cavrith ssh-config --apply
say ssh -F "$HOME/.ssh/config" timetable.cavrith 'id -un; pwd; head -1 ~/.vimrc'
say scp -q -F "$HOME/.ssh/config" news.html timetable.cavrith:/tmp/
say cavrith open serve.sh:3
say cavrith open --with torch
OWN
chmod 755 "$work/bin/own"
shot personal 12 "$tove/timetable" "$tove/home" ". own"
chmod 600 "$jonas/key"
cat > "$work/bin/visited" <<VISIT
say cavrith invite jonas --shell --for 1h | tee "$work/line"
CAVRITH_HOME=$jonas/home cavrith visit "\$(tail -1 "$work/line" | cut -d"'" -f2)" --key "$jonas/key" -- 'quill --version; exec sleep 20' >/dev/null 2>&1 &
sleep 2
say cavrith status
say cavrith logs visitors
say cavrith invite jonas --end
wait
VISIT
chmod 755 "$work/bin/visited"
CAVRITH_HOME=$ida/home cavrith -C "$ida/timetable" start -q --wait >/dev/null 2>&1
shot invite 12 "$ida/timetable" "$ida/home" ". visited"
CAVRITH_HOME=$ida/home cavrith -C "$ida/timetable" stop -q
CAVRITH_HOME=$tove/home cavrith -C "$tove/timetable" stop -q
shot demo 8 "$work" "$work/none" "cavrith demo again"

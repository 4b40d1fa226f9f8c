#!/usr/bin/env bash
# Static reads under load: histories of 320 packages from our server and from nginx, which serves the same files.
# Wants Debian's nginx-light and wrk beside what all benches want.
source "$(dirname "$0")/lib.sh"

python3 "$bench/make-universe.py" "$work" 320 50 40
"$program" registry create --quiet "$work/seedhouse"
"$program" registry load --quiet "$work/seedhouse" "$work/cards.jsonl"
cat >"$work/nginx.conf" <<CONF
worker_processes auto;
pid $work/nginx.pid;
error_log $work/nginx.log;
events { worker_connections 1024; }
http {
    access_log off;
    sendfile on;
    types { application/jsonl jsonl; }
    client_body_temp_path $work/tmp; proxy_temp_path $work/tmp; fastcgi_temp_path $work/tmp;
    uwsgi_temp_path $work/tmp; scgi_temp_path $work/tmp;
    server { listen 127.0.0.1:8652; root $work/seedhouse; }
}
CONF
chmod 755 "$work"
nginx -c "$work/nginx.conf" -g 'daemon off;' &
nginx=$!
"$program" registry serve --quiet "$work/seedhouse" --listen 127.0.0.1:8651 &
served=$!
trap 'kill $nginx $served' EXIT
sleep 1
(cd "$work/seedhouse" && find packages -name '*.jsonl') >"$work/paths"
cat >"$work/paths.lua" <<LUA
local paths = {}
for line in io.lines("$work/paths") do paths[#paths + 1] = "/" .. line end
local at = 0
request = function()
    at = at % #paths + 1
    return wrk.format("GET", paths[at])
end
LUA
rate() { wrk -t1 -c32 -d"${BENCH_SECONDS:-5}s" -s "$work/paths.lua" "http://127.0.0.1:$1" | awk '/Requests\/sec/ {print $2}'; }
ours=$(rate 8651)
theirs=$(rate 8652)
echo "reads a second: $ours against $theirs: $(python3 -c "print(f'{$ours / $theirs:.2f}x')")"

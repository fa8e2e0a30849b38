#!/bin/bash
. "$HERE/../have.sh"
have_command puma puma
ruby -e 'require "action_cable"' 2>/dev/null || install ruby-actioncable
ruby -e 'require "action_cable"' 2>/dev/null || lack "ruby has no action_cable, and the system's packages could not give it"
puma -q -t 8:8 -b "tcp://127.0.0.1:$1" "$HERE/config.ru" >/dev/null 2>&1 &
. "$HERE/../ready.sh" "$1"
wait

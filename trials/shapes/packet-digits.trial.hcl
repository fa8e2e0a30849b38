# Digits in front of a list say what sort of packet it is:
# 42["notice", {"room": "lock-1", ...}].
# substr() takes them off; what is left is JSON.
#
#   tidepull standin --shape digits
#   tidepull run trials/shapes/packet-digits.trial.hcl

trial "packet digits" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "digits"
}

dialect "digits" {
  name {
    send      = "42[\"name\",{\"name\":\"${name}\"}]"
    confirmed = field(substr(text, 2, 100000), "0") == "named"
  }

  enter {
    send      = "42[\"enter\",{\"room\":\"${room}\"}]"
    confirmed = field(substr(text, 2, 100000), "0") == "entered" && field(substr(text, 2, 100000), "1.room") == room
  }

  heard {
    when    = field(substr(text, 2, 100000), "0") == "notice"
    room    = field(substr(text, 2, 100000), "1.room")
    seq     = field(substr(text, 2, 100000), "1.seq")
    payload = field(substr(text, 2, 100000), "1.text")
  }

  presence {
    when    = field(substr(text, 2, 100000), "0") == "presence"
    room    = field(substr(text, 2, 100000), "1.room")
    members = field(substr(text, 2, 100000), "1.members")
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = "42[\"notice\",{\"room\":\"${room}\",\"text\":\"berth ${n} is free ${mark}\"}]" }
  }
  pause { lasts = "1m" }
}

crew "pilots" {
  clients = 12
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "4s" }
  ebb { over = "1s" }
}

limit "nothing is lost" {
  of     = ledger.lost
  equals = 0
}

limit "nothing comes twice" {
  of     = ledger.duplicate
  equals = 0
}

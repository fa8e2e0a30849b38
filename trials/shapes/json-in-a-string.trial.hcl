# What a message says is JSON inside of a text:
# {"type": "message", "data": "{\"kind\": \"notice\", ...}"}.
# field() looks into such a text.
#
#   tidepull standin --shape string
#   tidepull run trials/shapes/json-in-a-string.trial.hcl

trial "json in a string" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "strings"
}

dialect "strings" {
  name {
    send      = "{\"type\":\"message\",\"data\":\"{\\\"kind\\\":\\\"name\\\",\\\"name\\\":\\\"${name}\\\"}\"}"
    confirmed = field(msg.data, "kind") == "named"
  }

  enter {
    send      = "{\"type\":\"message\",\"data\":\"{\\\"kind\\\":\\\"enter\\\",\\\"room\\\":\\\"${room}\\\"}\"}"
    confirmed = field(msg.data, "kind") == "entered" && field(msg.data, "room") == room
  }

  heard {
    when    = field(msg.data, "kind") == "notice"
    room    = field(msg.data, "room")
    seq     = field(msg.data, "seq")
    payload = field(msg.data, "text")
  }

  presence {
    when    = field(msg.data, "kind") == "presence"
    room    = field(msg.data, "room")
    members = field(msg.data, "members")
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = "{\"type\":\"message\",\"data\":\"{\\\"kind\\\":\\\"notice\\\",\\\"room\\\":\\\"${room}\\\",\\\"text\\\":\\\"berth ${n} is free ${mark}\\\"}\"}" }
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

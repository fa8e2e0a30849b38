# Who a client is stands in the address that it connects to; nothing is said for it.
#
#   tidepull standin
#   tidepull run trials/shapes/name-in-the-path.trial.hcl

trial "name in the path" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "paths"
}

dialect "paths" {
  name { confirmed = msg.kind == "named" }

  enter {
    send      = { kind = "enter", room = room }
    confirmed = msg.kind == "entered" && msg.room == room
  }

  heard {
    when    = msg.kind == "notice"
    room    = msg.room
    seq     = msg.seq
    payload = msg.text
  }

  presence {
    when    = msg.kind == "presence"
    room    = msg.room
    members = msg.members
  }
}

session "watch" {
  connect { path = "/live?name=${name}" }
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = { kind = "notice", room = room, text = "berth ${n} is free ${mark}" } }
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

# A client enters its room by connecting: who and where stand in the address. The enter step
# says which room that is; nothing is sent for it, and the server confirms it by itself.
#
#   tidepull standin
#   tidepull run trials/shapes/room-in-the-path.trial.hcl

trial "room in the path" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "places"
}

dialect "places" {
  name { confirmed = msg.kind == "named" }

  enter { confirmed = msg.kind == "entered" && msg.room == room }

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
  connect { path = "/live?name=${name}&room=lock-${n % 3}" }
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

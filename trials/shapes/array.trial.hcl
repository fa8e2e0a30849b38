# A message is a list: its kind, and then what it says:
# ["notice", {"room": "lock-1", ...}].
#
#   tidepull standin --shape array
#   tidepull run trials/shapes/array.trial.hcl

trial "array" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "arrays"
}

dialect "arrays" {
  name {
    send      = ["name", { name = name }]
    confirmed = msg[0] == "named"
  }

  enter {
    send      = ["enter", { room = room }]
    confirmed = msg[0] == "entered" && msg[1].room == room
  }

  heard {
    when    = msg[0] == "notice"
    room    = msg[1].room
    seq     = msg[1].seq
    payload = msg[1].text
  }

  presence {
    when    = msg[0] == "presence"
    room    = msg[1].room
    members = msg[1].members
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = ["notice", { room = room, text = "berth ${n} is free ${mark}" }] }
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

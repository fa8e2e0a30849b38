# Each message is a JSON object, and a field says what kind it is. This is what the
# stand-in speaks by itself, and the dialect that is taken if none is named.
#
#   tidepull standin
#   tidepull run trials/shapes/kind-field.trial.hcl

trial "kind field" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
}

session "watch" {
  connect {}
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

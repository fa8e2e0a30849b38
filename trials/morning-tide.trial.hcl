# The harbour board on a morning: pilots, tug skippers and lock keepers come in
# with the tide, each enters the room of a lock, and all speak there.

trial "morning tide" {
  seed = 7
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "plain-json"
}

session "watch a lock" {
  connect {}

  expect "greeting" {
    when   = msg.kind == "welcome"
    within = "2s"
  }

  # Pilots wait at all eight locks, tugs where the traffic is: at the first three.
  enter {
    room = "lock-${crew == "tugs" ? n % 7 % 3 + 1 : n % 8 + 1}"
  }

  repeat {
    every  = "5s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "${name}: gate turning, stand by ${mark}" }
      reaches = "room"
    }
  }

  leave {}
}

session "keep a lock" {
  connect {}

  enter {
    room = "lock-${n % 8 + 1}"
  }

  repeat {
    every  = "2s"
    jitter = "20%"

    say {
      body    = { kind = "notice", room = room, text = "tide gauge ${3 + round % 5}.2 m, turn ${round} ${mark}" }
      reaches = "room"
    }

    whisper {
      to   = "pilot-${n * 7 + round % 7}"
      body = { kind = "whisper", to = to, text = "your berth is free ${mark}" }
    }
  }

  leave {}
}

crew "pilots" {
  clients = 240
  session = session["watch a lock"]
  name    = "pilot-${n}"
}

crew "tugs" {
  clients = 136
  session = session["watch a lock"]
  name    = "tug-${n}"
}

crew "keepers" {
  clients = 24
  session = session["keep a lock"]
  name    = "keeper-${n}"
}

tide {
  flood "100%" { over = "20s" }
  slack { lasts = "60s" }
  ebb { over = "10s" }
}

limit "the board is prompt" {
  of    = fanout.p99
  below = "500ms"
}

limit "the last one has it soon" {
  of    = spread.last.p99
  below = "1s"
}

limit "nothing is lost" {
  of     = ledger.lost
  equals = 0
}

limit "nothing comes twice" {
  of     = ledger.duplicate
  equals = 0
}

limit "nobody gets what is not theirs" {
  of     = ledger.stray
  equals = 0
}

# A message is a line of words, the first of which says what it is:
# NOTICE lock-1 pilots-3 17 berth 3 is free.
# match() takes a text apart by a regular expression.
#
#   tidepull standin --shape text
#   tidepull run trials/shapes/plain-text.trial.hcl

trial "plain text" {
  seed  = 7
  grace = "2s"
}

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  dialect   = "words"
}

dialect "words" {
  name {
    send      = "NAME ${name}"
    confirmed = match(text, "^(NAMED) ", 1) == "NAMED"
  }

  enter {
    send      = "ENTER ${room}"
    confirmed = match(text, "^ENTERED (\\S+) ", 1) == room
  }

  heard {
    when    = match(text, "^(NOTICE) ", 1) == "NOTICE"
    room    = match(text, "^NOTICE (\\S+) ", 1)
    payload = match(text, "^NOTICE \\S+ \\S+ \\d+ (.*)$", 1)
  }

  presence {
    when    = match(text, "^(MEMBERS|PRESENCE) ", 1) == "PRESENCE"
    room    = match(text, "^PRESENCE (\\S+) ", 1)
    members = number(match(text, "^PRESENCE \\S+ (\\d+)$", 1))
  }
}

session "watch" {
  connect {}
  enter { room = "lock-${n % 3}" }
  repeat {
    every = "500ms"
    times = 5
    say { body = "NOTICE ${room} berth ${n} is free ${mark}" }
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

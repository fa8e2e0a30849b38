import "kinds.trial.hcl" {}

trial "kinds" {}

target "board" { websocket = "ws://127.0.0.1:7411/live" }

session "s" {
  connect { path = "live" }
  expect "a number" { when = 5 }
  expect "a text" { when = "named" }
  expect "a name" { when = upper(name) }
  expect "half" { when = msg.kind == "a" && n }
  expect "never" { when = n == "1" }
  expect "status" { when = status == 200 }
  request "r" {
    path = "login"
    when = status == 200
  }
  sleep { lasts = "1s" }
  pause {}
  pause {
    lasts = "1s"
    loops = 3
  }
}

session "s" {
  connect {}
}

crew "c" {
  clients = 1
  session = session.s
}

crew "c" {
  clients = 1
  session = session.s
}

tide {
  flood "100%" { over = "1s" }
}

limit "x" {
  of     = ledger.lost
  equals = 0
}

limit "x" {
  of     = ledger.stray
  equals = 0
}

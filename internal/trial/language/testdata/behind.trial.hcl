trial "an error of syntax, and one behind it" {}

target "board" { websocket = "ws://127.0.0.1:7411/live" }

session "s" {
  connect {}
  expect "x" { when = msg.kind == }
  enter { room = "lock-1" }
  say { body = { text = mark } }
}

crew "c" {
  clients = "many"
  session = session.t
}

tide {
  flood "100%" { over = "1s" }
}

limit "x" {
  of     = ledger.losst
  equals = 0
}

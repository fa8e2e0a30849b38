trial "figures and times that are written otherwise" {}

target "board" { websocket = "ws://127.0.0.1:7411/live" }

session "s" {
  connect {}
  enter { room = "lock-1" }
  assert "soon" { that = fanout.p99 < "1 s" }
  assert "a text" { that = ledger.lost == "none" }
  assert "in quotation marks" { that = "ledger.lost" == 0 }
  assert "as it should be" { that = fanout.p99 < "100ms" && ledger.lost == 0 }
  pause { lasts = "20000h" }
}

crew "c" {
  clients = 2
  session = session.s
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "9000h" }
  ebb { over = "9000h" }
}

limit "x" {
  of     = "fanout.p99"
  below  = "1s"
}

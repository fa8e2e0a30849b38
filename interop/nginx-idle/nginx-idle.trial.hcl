import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "nginx-idle" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  http      = "http://127.0.0.1:${var.port}"
  dialect   = "theirs"
}

# Nobody speaks where these are, nor do they: the proxy cuts their connections.
session "wait" {
  connect {}
  enter { room = "anchorage-${n}" }
  expect_close "cut by the proxy" {
    abrupt = true
    within = "5s"
  }
}

crew "anchored" {
  clients = 50
  session = session.wait
}

limit "all that were idle were cut" {
  of     = clients.evicted
  equals = 50
}

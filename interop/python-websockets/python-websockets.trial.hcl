import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "python-websockets" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  deflate   = true
  dialect   = "theirs"
}

final_check "all were compressed" {
  request { path = "/truth" }
  holds = msg.compressed == clients.open
}

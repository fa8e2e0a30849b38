import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "go-events" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  events   = "http://127.0.0.1:${var.port}/events?id=${name}"
  post     = "/say?id=${name}"
  post_end = true
  dialect  = "theirs"
}

import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "python-polling" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  polling  = "http://127.0.0.1:${var.port}/poll?id=${name}"
  post     = "/say?id=${name}"
  post_end = true
  dialect  = "theirs"
}

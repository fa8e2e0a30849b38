import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "python-lines" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  tcp      = "tcp://127.0.0.1:${var.port}"
  ended_by = "\r\n"
  http     = "http://127.0.0.1:${var.second_port}"
  dialect  = "theirs"
}

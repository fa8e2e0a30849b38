import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "python-datagrams" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  udp          = "udp://127.0.0.1:${var.port}"
  first_within = "5s"
  http         = "http://127.0.0.1:${var.second_port}"
  dialect      = "theirs"
}

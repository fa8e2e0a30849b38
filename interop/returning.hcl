# Taken in by the copies of trials in which everybody comes back: the server restarts, and
# then all connections are cut at once.

variable "port" { default = 7500 }

variable "second_port" { default = 7501 }

variable "third_port" { default = 7502 }

variable "fourth_port" { default = 7503 }

variable "silent" { default = false }

variable "start" { default = "./start.sh" }

crew "pilots" {
  clients = 60
  session = session.watch

  reconnect {
    first  = "300ms"
    most   = "2s"
    jitter = "full"
  }
}

server {
  command = [var.start, "${var.port}", "${var.second_port}", "${var.third_port}", "${var.fourth_port}"]
  ready   = "ready"
  within  = "60s"
}

fault "deployed" {
  do    = "restart"
  at    = "3s"
  lasts = "1s"
}

fault "all at once" {
  do = "cut"
  at = "9s"
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "13s" }
  ebb { over = "1s" }
}

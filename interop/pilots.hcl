# Taken in by the trials of all servers.

variable "port" { default = 7500 }

variable "second_port" { default = 7501 } # of a server with two processes

variable "silent" { default = false } # all pilots fall silent, and must be evicted

variable "clients" { default = 60 }

variable "slack" { default = "6s" }

crew "pilots" {
  clients = var.clients
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = var.slack }
  ebb { over = "1s" }
}

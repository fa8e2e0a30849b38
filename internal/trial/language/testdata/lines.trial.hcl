trial "lines" {}

target "board" {
  lines     = "tcp://127.0.0.1:7411"
}

session "s" {
  connect { path = "/live" }
  request "log in" { path = "/login" }
  send {
    body   = "x"
    binary = true
  }
  fall_silent { evicted_within = "5s" }
  malformed { what = "unmasked" }
  close { code = 1001 }
}

crew "c" {
  clients = 1
  session = session.s
}

tide {
  flood "100%" { over = "1s" }
}

import "../pilots.hcl" {}
import "../counted.hcl" {}
import "../board.hcl" {}

trial "nginx-ways" {
  prompt = "3s"
  grace  = "5s"
}

# Nobody gets through to the first, of the second nothing comes, and all take the third.
target "server" {
  websocket = "wss://localhost:${var.port}/stripped"

  route "kept back" {
    events       = "https://localhost:${var.port}/buffered/events?id=${name}-first"
    post         = "/say?id=${name}-first"
    first_within = "500ms"
    post_end     = true
  }

  route "events" {
    events   = "https://localhost:${var.port}/events?id=${name}"
    post     = "/say?id=${name}"
    post_end = true
  }

  http    = "https://localhost:${var.port}"
  dialect = "theirs"

  tls {
    insecure = true
  }
}

limit "all took the third route" {
  of     = routes.steps_down
  equals = 2 * var.clients
}

trial "more" {}

import "nowhere.trial.hcl" {}

variable "boats" { default = 12 }

secret "token" { env = "TIDEPULL_TEST_NOT_SET" }

secret "both" {
  env  = "HOME"
  file = "words.errors"
}

data "pilots" { file = "pilots.csv" }

data "none" { file = "nothing.csv" }

target "board" {
  websocket = "ws://127.0.0.1:7411/live"
  order     = "sam"
}

feed "gauges" {
  when  = msg.kind == "reading"
  fresh = "1s"
}

session "s" {
  connect {
    headers = "Origin: x"
    early   = { kind = "notice", text = "no mark" }
  }
  otherwise {
    leave {}
  }
  set {
    berth = upper(data.pilots.berht)
  }
  say { body = "${shaa256(mark)} ${my.bert} ${var.boat} ${secret.tokn} ${length(1, 2)}" }
  say {
    hex  = "0g"
    file = "pilots.csv"
  }
  send { hex = "0g" }
  repeat {
    closed = true
    say { body = "${mark}" }
  }
  repeat {
    rate = "fast"
    malformed { what = "unmaskd" }
  }
  request "r" {
    path    = "/x"
    method  = "get"
    form    = { a = "b" }
    json    = { a = 1 }
    reaches = "room"
    when    = match(text, "(") == "x"
  }
  choose {}
  enter {
    room    = "x"
    history = -1
  }
}

session "nowhere" {
  connect {}
  say { body = "${mark}" }
}

crew "c" {
  clients = var.boats * 2
  session = session.s
  tide {
    flood "50%" {}
    wave {
      to     = "60%"
      period = "1s"
      times  = 1
    }
  }
}

final_check "r" {
  holds = msg.notices == messages.snt
}

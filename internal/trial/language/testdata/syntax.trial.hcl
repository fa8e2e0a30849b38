trial "t" {
  seed = 
}
target "b" { websocket = "ws://127.0.0.1/" }
session "süd \"水\"" {
  connect {}
  expect "x" { when = msg.kind == nosuch("水", msg.a) && msg.b == mrk }
}
crew "c" {
  clients = 3
  session = session["süd \"水\""]
}

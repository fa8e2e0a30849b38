# The trial of the server behind it.
import "../node-ws/node-ws.trial.hcl" {}

trial "nginx-front" {
  prompt = "3s"
  grace  = "5s"
}

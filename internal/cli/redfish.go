package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func redfishCommand() *cli.Command {
	list := listing(listControllers)
	return &cli.Command{
		Name:  "redfish",
		Usage: "management controllers of hosts: they report bays and switch lights where no enclosure does",
		Description: "Example: lantern host redfish list\n" +
			"         lantern host redfish add skerry --url https://192.0.2.7 --user " +
			"lantern --password-file bmc.txt\n\n" +
			"The host's agent asks its controller by Redfish (DMTF DSP0266), once a minute, and switches lights through it.",
		Flags:  tableFlags(),
		Action: list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list hosts with a management controller, and their last answers",
				Description: "Example: lantern host redfish list\n         lantern host redfish list -o json",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "add",
				Usage:     "set the address of a host's management controller",
				ArgsUsage: "<host>",
				Description: "Example: lantern host redfish add skerry --url https://192.0.2.7 --user lantern --password-file " +
					"bmc.txt\n" +
					"         lantern host redfish add skerry --url https://192.0.2.7 --user lantern --password-file bmc.txt " +
					"--certificate " + strings.Repeat("3f", 32) + "\n\n" +
					"The address is that under which the host's own agent reaches it. Make a user there that may read and switch " +
					"lights, no more.\n" +
					"The password is read from a file or from LANTERN_CONTROLLER_PASSWORD, and told to that agent alone. Most " +
					"controllers have a\n" +
					"certificate that they made themselves: name its SHA-256 then, as --certificate.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "url", Usage: "such as https://192.0.2.7", Required: true},
					&cli.StringFlag{Name: "user", Usage: "user name with which the agent signs in", Required: true},
					&cli.StringFlag{Name: "password-file", Usage: "file with the password"},
					// This is the controller's; the common option of this name is about the service.
					&cli.StringFlag{
						Name:  "certificate",
						Usage: "SHA-256 of its certificate, if no authority signed it",
					},
				},
				Action: with(addController),
			},
			{
				Name:        "remove",
				Usage:       "stop asking the management controller of a host",
				ArgsUsage:   "<host>",
				Description: "Example: lantern host redfish remove skerry\n         lantern host redfish remove skerry -o json",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a host")
					if err != nil {
						return err
					}
					return s.done("the agent of "+name+" no longer asks a management controller",
						did(s.client.RemoveController(ctx, name)))
				}),
			},
		},
	}
}

func addController(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "a host")
	if err != nil {
		return err
	}
	password := os.Getenv("LANTERN_CONTROLLER_PASSWORD")
	if file := cmd.String("password-file"); file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return usage("%v", err)
		}
		password = strings.TrimRight(string(b), "\r\n")
	}
	if password == "" {
		return usage("give the password: --password-file FILE, or LANTERN_CONTROLLER_PASSWORD")
	}
	return s.done("The agent of "+name+" is told with its next report. What came of it: lantern host redfish list",
		did(s.client.SetController(ctx, name, nil, api.SetController{Url: cmd.String("url"), User: cmd.String("user"),
			Password: password, Fingerprint: cmd.String("certificate")})))
}

func listControllers(ctx context.Context, s *session, _ *cli.Command) error {
	all, err := ask[[]api.Host](s.client.ListHosts(ctx))
	if err != nil {
		return err
	}
	var with []api.Host
	for _, h := range all {
		if h.Controller.Url != "" {
			with = append(with, h)
		}
	}
	return list(s, with, "No host has a management controller. Add one with: lantern host redfish add",
		[]column{
			col("host"), col("url"), col("user").spare(2), col("bays"), col("read").spare(1), col("says").fold(20),
			col("set_by").more(), col("set").more(),
		},
		func(h api.Host) []cell {
			c := h.Agent.Controller
			says := c.Error
			switch {
			case says == "" && c.At.IsZero():
				says = "not read yet"
			case c.Url != "" && c.Url != h.Controller.Url:
				says = "its agent still has the earlier settings: " + c.Url
			}
			return []cell{
				{text: h.Name, style: bold}, {text: h.Controller.Url}, {text: h.Controller.User}, countCell(c.Bays),
				timeCell(c.At, minutes), {text: says}, {text: h.Controller.By}, timeCell(h.Controller.SetAt, minutes),
			}
		})
}

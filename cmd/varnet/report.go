package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
)

func reportCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	out := c.flags.String("out", "", "the file to write, ending in .pdf or .html")
	zone := c.flags.String("zone", "UTC", "the time zone in which times are shown, such as Europe/Berlin")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	format := strings.TrimPrefix(strings.ToLower(filepath.Ext(*out)), ".")
	if len(rest) != 1 || format != "pdf" && format != "html" {
		return c.wrongUse("name one run, and with -out the file to write, ending in .pdf or .html")
	}
	run, err := c.runNumber(rest[0])
	if err != nil {
		return err
	}
	err = writeWhole(*out, func(w io.Writer) error { return connect().Report(ctx, run, format, *zone, w) })
	if err == nil {
		fmt.Fprintf(c.out, "Written to %s.\n", printable(*out))
	}
	return err
}

package main

import (
	"context"

	"varnet/internal/api"
)

func contractCommand() command {
	return command{"contract", "", "prints the contract of the API (OpenAPI 3.1)", "varnet contract > openapi.json", printContract, nil}
}

func printContract(c *cli) action {
	return func(context.Context) error {
		doc, err := api.Contract()
		if err == nil {
			_, err = c.out.Write(append(doc, '\n'))
		}
		return err
	}
}

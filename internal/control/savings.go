package control

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/records"
)

func (c *Control) savingsCall() {
	huma.Register(c.api, operation("report-savings", http.MethodGet, "/v1/reports/savings", "Report what the cache saved, of origin time, bytes and work", records.Read),
		func(ctx context.Context, in *struct {
			Since string   `query:"since" default:"1d" doc:"A length of time before now (1h, 7d) or an RFC 3339 time"`
			Until string   `query:"until" doc:"Likewise; now if left out"`
			Route string   `query:"route" doc:"Only this route, or NAMESPACE/NAME of fragments"`
			Price []string `query:"price,explode" doc:"What one of a kind of work costs: queries=0.00001"`
		}) (*struct{ Body client.SavingsReport }, error) {
			now := c.now()
			since, until, err := sinceUntil(in.Since, in.Until, now)
			if err != nil {
				return nil, err
			}
			prices, err := pricesOf(in.Price)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			report, err := c.savings(ctx, figureQuery{since: since, until: until, now: now, route: in.Route}, prices)
			return &struct{ Body client.SavingsReport }{report}, err
		})
}

// pricesOf reads "queries=0.00001"; nil: none is given.
func pricesOf(texts []string) (prices map[string]float64, err error) {
	for _, text := range texts {
		name, number, _ := strings.Cut(text, "=")
		price, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if name = strings.TrimSpace(name); name == "" || err != nil || !(price >= 0) || math.IsInf(price, 0) {
			return nil, fmt.Errorf("price: %q is none; write what one of a kind of work costs: queries=0.00001", text)
		}
		if prices == nil {
			prices = map[string]float64{}
		}
		prices[name] = price
	}
	return prices, nil
}

func (c *Control) savings(ctx context.Context, q figureQuery, prices map[string]float64) (client.SavingsReport, error) {
	out := client.SavingsReport{Since: q.since, Until: q.until, Rows: []client.SavingsRow{}}
	rec, err := c.records()
	if err != nil {
		return out, err
	}
	var report meter.SavingsReport
	if err := c.eachFigure(ctx, rec, q, func(_ time.Time, k meter.Key, cell *meter.Cell) { report.Count(k, cell) }); err != nil {
		return out, c.failed(err)
	}
	out.Total = savingsRow(&report.Total, prices)
	for _, row := range report.Rows() {
		out.Rows = append(out.Rows, savingsRow(row, prices))
	}
	return out, nil
}

func savingsRow(s *meter.Savings, prices map[string]float64) client.SavingsRow {
	row := client.SavingsRow{
		Route: s.Route, Requests: s.Requests, OriginRequests: s.OriginRequests, RoundTripsSaved: s.RoundTripsSaved(),
		OriginTimeSavedMS: milliseconds(s.Saved), BytesSaved: s.HitBytes, PerChange: known(s.PerChange()),
	}
	for name, amount := range s.Work {
		if row.Work == nil {
			row.Work = map[string]client.WorkAmount{}
		}
		row.Work[name] = client.WorkAmount{Spent: amount.Spent, Saved: amount.Saved}
	}
	if prices != nil {
		money := s.Money(prices)
		row.MoneySaved = &money
	}
	return row
}

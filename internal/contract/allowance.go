package contract

import (
	"time"
)

// Allowance is how many checks a workspace may still use, and how it gets more.
type Allowance struct {
	Kept          bool           `json:"kept" doc:"Whether the workspace has an allowance. Without one it may check as much as it likes, and nothing else is returned."`
	Available     int64          `json:"available" doc:"Checks that may be used."`
	Reserved      int64          `json:"reserved" doc:"Checks that are set aside for runs that go on."`
	Whole         int64          `json:"whole" doc:"What the lots of checks that are available were when they came."`
	Says          string         `json:"says" doc:"Its state, in sentences."`
	UsedLately    int64          `json:"usedLately" doc:"Checks that were charged in the last 30 days."`
	LastsUntil    *time.Time     `json:"lastsUntil,omitempty" doc:"Until when it lasts at the pace of the last 30 days."`
	ExpiresAt     *time.Time     `json:"expiresAt,omitempty" doc:"When the next checks expire."`
	Expiring      int64          `json:"expiring" doc:"How many do then."`
	Plan          *AllowancePlan `json:"plan,omitempty" doc:"The plan of the workspace."`
	NextGrantAt   *time.Time     `json:"nextGrantAt,omitempty" doc:"When the plan grants checks next."`
	Low           int64          `json:"low" doc:"Below this many available checks the event allowance.low is recorded; 0: never."`
	Refill        *Refill        `json:"refill,omitempty" doc:"By what rule checks are bought automatically."`
	Method        string         `json:"method,omitempty" doc:"The stored payment method."`
	Subscription  int64          `json:"subscription" doc:"Checks that are bought each month; 0: none."`
	NextRenewalAt *time.Time     `json:"nextRenewalAt,omitempty" doc:"When the next month of the subscription is bought."`
	Buyer         *Party         `json:"buyer,omitempty" doc:"To whom invoices are made out."`
	CanBuy        bool           `json:"canBuy" doc:"Whether checks can be bought here."`
}

// AllowancePlan is what a workspace gets and pays.
type AllowancePlan struct {
	ID int64 `json:"id,omitempty" readOnly:"true" doc:"Names the plan."`
	PlanTerms
	Workspaces int64 `json:"workspaces,omitempty" readOnly:"true" doc:"How many workspaces have it."`
}

// PlanTerms are the terms of a plan.
type PlanTerms struct {
	Name            string      `json:"name" minLength:"1" maxLength:"100" doc:"What it is called."`
	Grant           int64       `json:"grant" minimum:"0" doc:"Checks that come each month."`
	Keep            int         `json:"keep" minimum:"0" maximum:"120" doc:"For how many months a grant is kept; 0: for ever, 1: until the next comes."`
	SyntaxCost      int64       `json:"syntaxCost" minimum:"0" maximum:"1000" doc:"Checks that a finding costs that the form alone told."`
	DomainCost      int64       `json:"domainCost" minimum:"0" maximum:"1000" doc:"Checks that a finding costs that DNS told."`
	MailboxCost     int64       `json:"mailboxCost" minimum:"0" maximum:"1000" doc:"Checks that a finding costs that the mail hosts told."`
	Urgent          int64       `json:"urgent" minimum:"0" maximum:"100" doc:"How many times as much an urgent run costs; 0: there are none."`
	EstimatesADay   int         `json:"estimatesADay" minimum:"0" maximum:"1000000" doc:"Free quick estimates a day; 0: any number."`
	Day             int64       `json:"day" minimum:"0" doc:"Checks that the workspace may use a day; 0: any number."`
	PersonDay       int64       `json:"personDay" minimum:"0" doc:"Checks that each person may use a day; 0: any number."`
	KeyDay          int64       `json:"keyDay" minimum:"0" doc:"Checks that each key may use a day; 0: any number."`
	Currency        string      `json:"currency,omitempty" maxLength:"3" doc:"The currency of the prices (ISO 4217)."`
	Digits          int         `json:"digits,omitempty" readOnly:"true" doc:"How many decimal digits its smallest unit has."`
	Steps           []PriceStep `json:"steps,omitempty" maxItems:"20" doc:"The steps of the prices, each paid at its own; none: nothing can be bought."`
	SubscriptionOff int64       `json:"subscriptionOff" minimum:"0" maximum:"90" doc:"By how many percent a subscription is cheaper."`
}

// PriceStep is a step of the prices.
type PriceStep struct {
	UpTo        int64 `json:"upTo" minimum:"0" doc:"Checks up to this number; 0, of the last step: any number."`
	PerThousand int64 `json:"perThousand" minimum:"0" doc:"What a thousand cost, in the smallest unit of the currency."`
}

// Refill is a rule by which checks are bought automatically.
type Refill struct {
	Under int64 `json:"under" minimum:"1" doc:"When fewer are available."`
	Buy   int64 `json:"buy" minimum:"1" maximum:"1000000000" doc:"How many are bought."`
	Most  int   `json:"most" minimum:"1" maximum:"30" doc:"How often at most in 30 days."`
}

// Party is who sells or buys.
type Party struct {
	Name      string   `json:"name" minLength:"1" maxLength:"200" doc:"The name."`
	Lines     []string `json:"lines" maxItems:"6" doc:"The postal address, line by line."`
	Country   string   `json:"country" pattern:"^[A-Z]{2}$" doc:"The country (ISO 3166-1, two letters)."`
	VATNumber string   `json:"vatNumber,omitempty" maxLength:"40" doc:"The VAT number."`
}

// AllowanceSettings are what the managers of a workspace set.
type AllowanceSettings struct {
	Low          int64   `json:"low" minimum:"0" doc:"The warning level: below this many available checks an event is recorded; 0: never."`
	Refill       *Refill `json:"refill,omitempty" doc:"By what rule checks are bought automatically; left out: none."`
	Subscription int64   `json:"subscription" minimum:"0" maximum:"1000000000" doc:"Checks that are bought each month; 0: none, and what was bought stays."`
	Buyer        *Party  `json:"buyer,omitempty" doc:"To whom invoices are made out."`
}

// PurchaseOrder asks for a purchase.
type PurchaseOrder struct {
	Checks   int64 `json:"checks" minimum:"1" maximum:"1000000000" doc:"How many checks, exactly."`
	Remember bool  `json:"remember,omitempty" doc:"Whether the payment method is stored at the provider, for refills and the subscription."`
	List     int64 `json:"list,omitempty" minimum:"0" doc:"The list to whose page people come back when they have paid."`
}

// PriceQuestion asks what a purchase comes to.
type PriceQuestion struct {
	Checks       int64  `json:"checks" minimum:"1" maximum:"1000000000" doc:"How many checks."`
	Subscription bool   `json:"subscription,omitempty" doc:"As a subscription, each month."`
	Country      string `json:"country,omitempty" pattern:"^[A-Z]{2}$" doc:"The country that the invoice is for (ISO 3166-1); left out, the one of the workspace."`
	VATNumber    string `json:"vatNumber,omitempty" maxLength:"40" doc:"The VAT number that the invoice is for."`
}

// Price is what a purchase comes to.
type Price struct {
	Checks   int64       `json:"checks" doc:"How many checks."`
	Currency string      `json:"currency" doc:"The currency (ISO 4217)."`
	Lines    []PriceLine `json:"lines" doc:"What each step of the prices takes."`
	Cheaper  int64       `json:"cheaper" doc:"By how many percent it is cheaper, as a subscription is."`
	Net      int64       `json:"net" doc:"Without tax, in the smallest unit."`
	Tax      int64       `json:"tax" doc:"The tax."`
	TaxSays  string      `json:"taxSays,omitempty" doc:"What tax it is, or why there is none."`
	Total    int64       `json:"total" doc:"What is to be paid."`
	Says     string      `json:"says" doc:"The total as people write it."`
}

// PriceLine is what a purchase takes of one step.
type PriceLine struct {
	Checks      int64  `json:"checks" doc:"How many checks."`
	PerThousand int64  `json:"perThousand" doc:"What a thousand cost."`
	Amount      int64  `json:"amount" doc:"What these cost."`
	Says        string `json:"says" doc:"The same in words."`
}

// Purchase is an amount of checks that is bought.
type Purchase struct {
	ID int64 `json:"id" doc:"Names the purchase."`
	Price
	WorkspaceID int64      `json:"workspaceId" doc:"Whose it is."`
	Why         string     `json:"why" enum:"top-up,refill,subscription" doc:"Whether a person, a refill or the subscription bought."`
	State       string     `json:"state" enum:"open,paid,refused,paid back,charged back" doc:"Where it stands."`
	Reason      string     `json:"reason,omitempty" doc:"Why it was refused, in the provider's words."`
	Page        string     `json:"page,omitempty" doc:"The provider's page on which it is paid."`
	Invoice     string     `json:"invoice,omitempty" doc:"The number of its invoice."`
	CreditNote  string     `json:"creditNote,omitempty" doc:"The number of its credit note."`
	Withdrawn   int64      `json:"withdrawn" doc:"Checks that were taken back."`
	MadeAt      time.Time  `json:"madeAt" doc:"When it was ordered."`
	PaidAt      *time.Time `json:"paidAt,omitempty" doc:"When it was paid."`
}

// Usage is what was charged for what.
type Usage struct {
	By    string      `json:"by" doc:"What it is counted by."`
	From  time.Time   `json:"from" doc:"From when."`
	Until time.Time   `json:"until" doc:"To before when."`
	Sum   int64       `json:"sum" doc:"Checks in all."`
	Items []UsageItem `json:"items" doc:"Each day, the earliest first; or what used most, first."`
}

// UsageItem is what was charged for one of them.
type UsageItem struct {
	ID     int64  `json:"id,omitempty" doc:"Its number, where it has one."`
	Label  string `json:"label" doc:"What it is: a day, or a name."`
	Checks int64  `json:"checks" doc:"Checks that were charged."`
	Times  int64  `json:"times" doc:"Runs and single checks."`
}

// LedgerStatement is what came and went in a month.
type LedgerStatement struct {
	Month  string          `json:"month" doc:"The month, as 2026-11."`
	Before int64           `json:"before" doc:"Checks held at the beginning: available or set aside."`
	After  int64           `json:"after" doc:"Checks held at the end."`
	Lines  []StatementLine `json:"lines" doc:"What came and went."`
	Says   string          `json:"says" doc:"The sums, in a sentence."`
}

// StatementLine is a line of a statement.
type StatementLine struct {
	At      time.Time `json:"at" doc:"When; of a run, when it was charged last."`
	Why     string    `json:"why" doc:"What it is: grant, top-up, refill, subscription, charge, expiry, withdrawal or correction."`
	Says    string    `json:"says" doc:"The same in words."`
	Amount  int64     `json:"amount" doc:"Checks that came, or, below 0, went."`
	Balance int64     `json:"balance" doc:"Checks held after it."`
}

// SaidBefore is what a run may take, said before it is started.
type SaidBefore struct {
	Most      int64  `json:"most" doc:"Checks that it can cost at most; what comes undecided is given back."`
	Available int64  `json:"available" doc:"Checks that are available."`
	Left      int64  `json:"left" doc:"Checks that are left if it costs the most."`
	Missing   int64  `json:"missing" doc:"Checks that it takes more than are available."`
	Says      string `json:"says" doc:"The same in sentences."`
}

// Account is the allowance of a workspace as the owner of the installation sees it.
type Account struct {
	WorkspaceID int64  `json:"workspaceId" doc:"The workspace."`
	Workspace   string `json:"workspace" doc:"Its name."`
	Kept        bool   `json:"kept" doc:"Whether it has an allowance."`
	PlanID      int64  `json:"planId,omitempty" doc:"Its plan."`
	Plan        string `json:"plan,omitempty" doc:"What that is called."`
	Available   int64  `json:"available" doc:"Checks that are available."`
	Reserved    int64  `json:"reserved" doc:"Checks that are set aside."`
	UsedLately  int64  `json:"usedLately" doc:"Checks that were charged in the last 30 days."`
}

// AccountPlan gives a workspace a plan.
type AccountPlan struct {
	PlanID int64 `json:"planId" minimum:"0" doc:"The plan; 0: there is no allowance, and the workspace may check as much as it likes."`
}

// NewGrant gives a workspace checks.
type NewGrant struct {
	Checks    int64      `json:"checks" minimum:"-1000000000000" maximum:"1000000000000" doc:"How many; below 0 they are taken away."`
	ExpiresAt *time.Time `json:"expiresAt,omitempty" doc:"When they expire; left out: never."`
	Note      string     `json:"note,omitempty" maxLength:"200" doc:"What for: it stands on the statement."`
}

// Billing is how the installation is paid.
type Billing struct {
	Provider      string    `json:"provider" maxLength:"300" doc:"The address of the payment provider; empty: nothing can be bought."`
	Secret        *string   `json:"secret,omitempty" writeOnly:"true" maxLength:"200" doc:"The secret that calls in both directions are signed by, in the form of Standard Webhooks; left out, the one that is there stays."`
	Seller        *Party    `json:"seller,omitempty" doc:"Who sells: stands on invoices."`
	Taxes         []TaxRate `json:"taxes" maxItems:"300" doc:"What tax is added, by the country of the buyer."`
	DefaultPlanID int64     `json:"defaultPlanId" minimum:"0" doc:"The plan that new workspaces get; 0: they have no allowance."`
	Calls         string    `json:"calls,omitempty" readOnly:"true" doc:"Where the provider calls."`
}

// TaxRate is a row of the table of taxes.
type TaxRate struct {
	Country string `json:"country" pattern:"^[A-Z]{2}$" doc:"The country of the buyer (ISO 3166-1)."`
	Name    string `json:"name" minLength:"1" maxLength:"40" doc:"What the tax is called."`
	Rate    int64  `json:"rate" minimum:"0" maximum:"10000" doc:"In hundredths of a percent: 1900 is 19 %."`
	Reverse bool   `json:"reverse,omitempty" doc:"Whether businesses abroad with a VAT number owe it themselves."`
}

// LedgerCheck is what the verification of the book found.
type LedgerCheck struct {
	Right    bool            `json:"right" doc:"Whether the book is right."`
	Entries  int64           `json:"entries" doc:"How many entries it has."`
	Balances []LedgerBalance `json:"balances" doc:"The balance of each account over all workspaces; together they are 0."`
	Problems []string        `json:"problems" doc:"What is wrong."`
	Says     string          `json:"says" doc:"The same in a sentence."`
}

// LedgerBalance is the balance of an account.
type LedgerBalance struct {
	Account string `json:"account" doc:"The account."`
	Balance int64  `json:"balance" doc:"Its balance in checks."`
}

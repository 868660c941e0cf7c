export default async ({ p, base, shot, ids }) => {
  await p.goto(`${base}/scanners/${ids.Alder}/Verify`); await p.waitForTimeout(1000)
  const again=p.getByRole('button',{name:'Verify again'}); if(await again.count()) await again.click()
  await p.getByRole('button', { name: 'Begin' }).click(); await p.waitForTimeout(700)
  await p.getByRole('button', { name: 'Measure this position' }).click(); await p.waitForTimeout(3500); await shot('verify1')
  await p.getByRole('button', { name: 'Measure all that are left' }).click()
  await p.getByText('Verify again').waitFor({timeout:60000}); await p.waitForTimeout(500); await shot('verified')
  await p.goto(base); await p.waitForTimeout(1500); await shot('bench')
}
